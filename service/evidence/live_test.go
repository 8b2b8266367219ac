package evidence

import "testing"

func TestWhoWatchesTooSlowlyIsToldHowManyWereMissed(t *testing.T) {
	var e Evidence
	watcher := e.Watch("")
	for range watched + 7 {
		e.hub.publish("quay", LiveCall{})
	}
	if n := watcher.Missed(); n != 7 || watcher.Missed() != 0 {
		t.Errorf("%d were missed, then %d", n, watcher.Missed())
	}
	watcher.Stop()
	e.hub.publish("quay", LiveCall{})
	if watcher.Missed() != 0 {
		t.Error("one who stopped is still handed calls")
	}
}
