//go:build screenshots

package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// terminalShot runs a shell command in a terminal window on a display of its own
// and writes a picture of it. It needs Xvfb, xterm and ImageMagick.
func terminalShot(t *testing.T, home, file, shown, command string) {
	t.Helper()
	done := filepath.Join(t.TempDir(), "done")
	display := fmt.Sprintf(":%d", 90+os.Getpid()%900)
	screen := exec.Command("Xvfb", display, "-screen", "0", "1280x800x24", "-nolisten", "tcp")
	if err := screen.Start(); err != nil {
		t.Fatalf("Xvfb does not start: %v", err)
	}
	defer func() { screen.Process.Signal(syscall.SIGTERM); screen.Wait() }() // it takes its display with it
	socket := "/tmp/.X11-unix/X" + display[1:]
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if _, err := os.Stat(socket); err == nil {
			break
		}
	}
	script := "printf '$ %s\\n' '" + shown + "'; " + command + "; touch " + done + "; sleep 600"
	window := exec.Command("xterm", "-display", display, "-geometry", "158x52+0+0", "-fa", "DejaVu Sans Mono", "-fs",
		"9", "-bg", "#10151f", "-fg", "#e8e4da", "-bw", "0", "+sb", "-e", "sh", "-c", script)
	window.Env = append(environment(home), "DISPLAY="+display, "TERM=xterm-256color", "LANG=C.UTF-8", "PATH="+
		filepath.Dir(program)+":"+os.Getenv("PATH"))
	if err := window.Start(); err != nil {
		t.Fatalf("xterm does not start: %v", err)
	}
	defer func() { window.Process.Kill(); window.Wait() }()
	for deadline := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		if _, err := os.Stat(done); err == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%s does not end", shown)
		}
	}
	// the window draws when it comes to it: two pictures alike are one that is complete
	last := ""
	for range 50 {
		time.Sleep(100 * time.Millisecond)
		if out, err := exec.Command("import", "-display", display, "-window", "root",
			file).CombinedOutput(); err != nil {
			t.Fatalf("import: %v %s", err, out)
		}
		data, _ := os.ReadFile(file)
		if now := string(data); strings.Compare(now, last) == 0 {
			return
		} else {
			last = now
		}
	}
}
