import { useSyncExternalStore } from "react";

// Light or dark: as the person chose here, else as the system has it.
const key = "inkret.theme";
const system = window.matchMedia("(prefers-color-scheme: dark)");
const listeners = new Set<() => void>();

const isDark = () => {
  const chosen = localStorage.getItem(key);
  return chosen ? chosen === "dark" : system.matches;
};

function subscribe(listener: () => void) {
  listeners.add(listener);
  system.addEventListener("change", listener);
  return () => {
    listeners.delete(listener);
    system.removeEventListener("change", listener);
  };
}

export function useDark() {
  const dark = useSyncExternalStore(subscribe, isDark);
  const toggle = () => {
    localStorage.setItem(key, dark ? "light" : "dark");
    listeners.forEach((l) => l());
  };
  return { dark, toggle };
}
