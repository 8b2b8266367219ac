import { useCallback, useEffect, useRef, useState } from "react";
import { actingForQuery, type Batch, type LiveCall, type Severity } from "../../api/client";

export enum Following {
  Connecting,
  Connected,
  Lost,
}

/** What has arrived so far. */
export interface Watched {
  following: Following;
  calls: LiveCall[]; // the newest first, no more than `most`
  seen: number;
  leaking: number;
  missed: number; // left out by the service, because they came too fast
  waiting: number; // came while paused
  bySeverity: Partial<Record<Severity, number>>; // of the findings that calls showed, each once
  batch?: Batch; // that calls came into last
}

const most = 500;
/** Arrivals are drawn together at this interval, in milliseconds. */
const drawEvery = 250;

const nothing: Watched = {
  following: Following.Connecting,
  calls: [],
  seen: 0,
  leaking: 0,
  missed: 0,
  waiting: 0,
  bySeverity: {},
};

/** Watches a service's calls arrive. While paused they wait. */
export function useLive(service: string, paused: boolean): Watched & { clear: () => void } {
  const [watched, setWatched] = useState(nothing);
  const waiting = useRef<LiveCall[]>([]);
  const findings = useRef(new Map<string, Severity>());
  const said = useRef({ following: Following.Connecting, missed: 0, batch: undefined as Batch | undefined });
  const isPaused = useRef(paused);
  isPaused.current = paused;

  useEffect(() => {
    const source = new EventSource(
      `/api/v1/live?${new URLSearchParams({ ...(service ? { service } : {}), ...actingForQuery() })}`,
    );
    let changed = true;
    const change =
      <E extends Event>(f: (e: E) => void) =>
      (e: Event) => {
        changed = true;
        f(e as E);
      };
    source.onopen = change(() => (said.current.following = Following.Connected));
    source.onerror = change(() => (said.current.following = Following.Lost));
    source.addEventListener(
      "call",
      change((e: MessageEvent<string>) => {
        const call = JSON.parse(e.data) as LiveCall;
        said.current.batch = call.batch;
        waiting.current.push(call);
        if (waiting.current.length > 4 * most) said.current.missed += waiting.current.splice(0, most).length;
      }),
    );
    source.addEventListener(
      "missed",
      change((e: MessageEvent<string>) => (said.current.missed += Number(e.data))),
    );
    source.addEventListener(
      "end",
      change((e: MessageEvent<string>) => (said.current.batch = JSON.parse(e.data) as Batch)),
    );
    const draw = setInterval(() => {
      if (!changed) return;
      changed = false;
      const taken = isPaused.current ? [] : waiting.current.splice(0);
      if (taken.length === 0 && waiting.current.length > 0) changed = true; // for when one goes on
      for (const call of taken) for (const f of call.findings) findings.current.set(f.id, f.severity);
      setWatched((old) => {
        const bySeverity: Watched["bySeverity"] = {};
        for (const s of findings.current.values()) bySeverity[s] = (bySeverity[s] ?? 0) + 1;
        return {
          ...said.current,
          calls: taken.length ? [...taken.reverse(), ...old.calls].slice(0, most) : old.calls,
          seen: old.seen + taken.length,
          leaking: old.leaking + taken.filter((c) => c.findings.length > 0).length,
          waiting: waiting.current.length,
          bySeverity,
        };
      });
    }, drawEvery);
    return () => {
      source.close();
      clearInterval(draw);
    };
  }, [service]);

  const clear = useCallback(() => {
    findings.current.clear();
    said.current.missed = 0;
    setWatched((old) => ({ ...nothing, following: old.following, batch: old.batch }));
  }, []);
  return { ...watched, clear };
}
