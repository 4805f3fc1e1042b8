import { useEffect, useState } from "react";

/** useSettled gives a value once it has not changed for a moment. */
export function useSettled<T>(value: T): T {
  const [v, set] = useState(value);
  useEffect(() => {
    const t = window.setTimeout(() => set(value), 250);
    return () => window.clearTimeout(t);
  }, [value]);
  return v;
}
