/** size writes bytes with a binary unit. */
export function size(n: number | undefined | null): string {
  if (n === undefined || n === null) return "—";
  const units = ["B", "KiB", "MiB", "GiB", "TiB"];
  let i = 0;
  while (Math.round(n) >= 1024 && i < units.length - 1) {
    n /= 1024;
    i++;
  }
  return `${n < 9.95 && i > 0 ? n.toFixed(1) : Math.round(n)} ${units[i]}`;
}

export const rate = (n: number) => `${size(n)}/s`;

/** span writes seconds with at most two units. */
export function span(s: number | undefined | null): string {
  if (s === undefined || s === null) return "—";
  if (s < 0) return `-${span(-s)}`;
  s = Math.floor(s);
  if (s > 0 && s % 31536000 === 0) return `${s / 31536000} y`;
  const parts: [number, string][] = [
    [Math.floor(s / 86400), "d"],
    [Math.floor((s % 86400) / 3600), "h"],
    [Math.floor((s % 3600) / 60), "min"],
    [s % 60, "s"],
  ];
  while (parts.length > 1 && parts[0]?.[0] === 0) parts.shift();
  const [a, b] = parts;
  if (!a) return "0 s";
  const more = b && b[0] > 0 && !(a[1] === "min" && a[0] >= 10);
  return `${a[0]} ${a[1]}${more ? ` ${b[0]} ${b[1]}` : ""}`;
}

/** millis writes a short length of time. */
export function millis(ms: number): string {
  if (Math.round(ms) < 1000) return `${Math.round(ms)} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`;
  return span(ms / 1000);
}

const day = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short" });
const hms = new Intl.DateTimeFormat(undefined, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hour12: false,
});
const hm = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hour12: false });
const full = new Intl.DateTimeFormat(undefined, { dateStyle: "full", timeStyle: "long" });

const dated = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short", year: "numeric" });

/** when writes an instant in local time, with the day if it is not today, and with the year instead of the time if it is of another year. */
export function when(t: string | undefined | null): string {
  if (!t) return "—";
  const d = new Date(t);
  if (d.getFullYear() !== new Date().getFullYear()) return dated.format(d);
  return d.toDateString() === new Date().toDateString() ? hms.format(d) : `${day.format(d)} ${hm.format(d)}`;
}

/** exactly writes an instant in full, with its zone, for a title. */
export const exactly = (t: string | undefined | null) => (t ? full.format(new Date(t)) : undefined);

export const clockTime = (t: number) => hm.format(t);
export const dayOf = (t: number) => day.format(t);
export const dayTime = (t: number) => `${day.format(t)} ${hm.format(t)}`;

/** plainSpan writes seconds without loss, as the service reads them: "90s", "15min", "2d". */
export function plainSpan(s: number): string {
  for (const [n, u] of [
    [31536000, "y"],
    [604800, "w"],
    [86400, "d"],
    [3600, "h"],
    [60, "min"],
  ] as const)
    if (s >= n && s % n === 0) return `${s / n}${u}`;
  return `${s}s`;
}

export const count = (n: number, noun: string) => `${n} ${noun}${n === 1 ? "" : "s"}`;

/** each says how often a rung keeps a point. */
const eachText = (seconds: number, months: number | undefined, words: (s: number) => string) =>
  months === 12 ? "yearly" : months ? "monthly" : seconds ? words(seconds) : "";

export const rungText = (r: {
  eachSeconds: number;
  forSeconds: number;
  locked?: boolean;
  longTerm?: boolean;
  months?: number;
}) => {
  const each = eachText(r.eachSeconds, r.months, (s) =>
    s === 3600 ? "hourly" : s === 86400 ? "daily" : s === 604800 ? "weekly" : `one per ${span(s)}`,
  );
  return `${each || "every point"} · ${span(r.forSeconds)}${r.longTerm ? " · long-term" : ""}${r.locked ? " · locked" : ""}`;
};

/** tagsOf reads tags as they are typed, or networks: with spaces or commas between. */
export const tagsOf = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** keepText writes a keep ladder as it is typed. */
export const keepText = (
  keep: { eachSeconds: number; forSeconds: number; locked?: boolean; longTerm?: boolean; months?: number }[],
) =>
  keep
    .map(
      (r) =>
        `${eachText(r.eachSeconds, r.months, plainSpan) || "all"} ${plainSpan(r.forSeconds)}${r.longTerm ? " long-term" : ""}${r.locked ? " locked" : ""}`,
    )
    .join(", ");
