import { useEffect, useState } from "react";

const prefix = "kestrel draft ";

/** readDraft gives what was typed and not saved, if there is any. */
export function readDraft<T>(key: string): T | undefined {
  try {
    const text = sessionStorage.getItem(prefix + key);
    return text ? (JSON.parse(text) as T) : undefined;
  } catch {
    return undefined; // written by an older page, or not allowed here
  }
}

/** writeDraft keeps what is typed until it is saved or given up, through a reload as well; undefined forgets it. */
export function writeDraft(key: string, value: unknown) {
  try {
    if (value === undefined) sessionStorage.removeItem(prefix + key);
    else sessionStorage.setItem(prefix + key, JSON.stringify(value));
  } catch {
    // No room, or not allowed: then a reload loses it, as everywhere.
  }
}

/** text writes a value so that equal ones are written alike, whatever the order of their keys. */
function text(value: unknown): string {
  return JSON.stringify(value, (_, x) =>
    x && typeof x === "object" && !Array.isArray(x)
      ? Object.fromEntries(Object.entries(x).sort(([a], [b]) => (a < b ? -1 : 1)))
      : x,
  );
}

/**
 * useDraft is a value that is edited. What differs from what is saved outlives a reload of the page; found says that
 * it did, and drop goes back to what is saved.
 */
export function useDraft<T>(key: string, saved: T) {
  const [found, setFound] = useState(() => readDraft<T>(key) !== undefined);
  const [value, set] = useState<T>(() => readDraft<T>(key) ?? saved);
  const changed = text(value) !== text(saved);
  useEffect(() => writeDraft(key, changed ? value : undefined), [key, changed, value]);
  const drop = () => {
    writeDraft(key, undefined); // at once: what is saved may take this form's place before it is drawn again
    set(saved);
    setFound(false);
  };
  return { value, set, changed, found: found && changed, drop };
}
