import type { Point } from "../api";

/** Unusual says what was unusual of a point's changes, or that it comes after such, and which is the newest before. */
export function Unusual({ p }: { p: Point }) {
  if (p.calmPoint === undefined) return null;
  return (
    <div className="max-w-[44ch] whitespace-normal text-tight-ink text-xs">
      ◆ {p.unusual ? `unusual change: ${p.unusual}` : "after an unusual change."}{" "}
      {p.calmPoint ? `Point ${p.calmPoint} is the newest before it.` : "No point is left from before it."}
    </div>
  );
}
