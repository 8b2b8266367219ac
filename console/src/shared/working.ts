import { useCallback, useSyncExternalStore } from "react";
import type { ContractFile } from "../api/client";

/** Contract files being changed, the revision that they were made from, and a hash that identifies them. */
export type Working = { files: ContractFile[]; base: number; hash: string };

let typed = 0;

/** Identifies files that the service has not hashed yet. */
export const typedHash = () => `typed ${Date.now()} ${typed++}`;

// Kept in the browser's session, so that an ended session or a reload loses nothing
// that was typed.
const key = (service: string) => `inkret.working.${service}`;
const listeners = new Set<() => void>();
const cache = new Map<string, { text: string; value: Working }>();

export function workingOf(service: string): Working | undefined {
  const text = sessionStorage.getItem(key(service));
  if (!text) return undefined;
  const known = cache.get(service);
  if (known?.text === text) return known.value;
  try {
    const value = JSON.parse(text) as Working;
    cache.set(service, { text, value });
    return value;
  } catch {
    return undefined;
  }
}

export function keepWorking(service: string, working: Working | undefined) {
  if (working) sessionStorage.setItem(key(service), JSON.stringify(working));
  else sessionStorage.removeItem(key(service));
  listeners.forEach((l) => l());
}

const subscribe = (l: () => void) => {
  listeners.add(l);
  return () => listeners.delete(l);
};

export function useWorking(service: string): [Working | undefined, (w: Working | undefined) => void] {
  const value = useSyncExternalStore(subscribe, () => workingOf(service));
  return [value, useCallback((w) => keepWorking(service, w), [service])];
}
