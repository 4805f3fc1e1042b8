import { useState } from "react";
import type { Point, Schemas } from "./api";
import { count, exactly, rungText, size, span, when } from "./format";

/** Rail lays the recovery points out by the rungs of the keep ladder, oldest
 * left, each rung with its own time scale. Arrow keys walk along it. */
export function Rail(p: {
  points: Point[];
  keep: Schemas["Rung"][];
  now: number;
  selected?: string;
  onSelect: (id: string) => void;
}) {
  const [hover, setHover] = useState<string>();
  const oldestFirst = [...p.points].sort((a, b) => Date.parse(a.captureAt) - Date.parse(b.captureAt));
  let younger = 0;
  const rungs = p.keep.map((r) => {
    const s = { ...r, younger };
    younger = r.forSeconds;
    return s;
  });
  const age = (x: Point) => (p.now - Date.parse(x.captureAt)) / 1000;
  const beyond = oldestFirst.filter((x) => age(x) > younger);
  const sections = [
    ...(beyond.length ? [{ key: "past", label: "past the ladder", points: beyond, from: 0, to: 0 }] : []),
    ...rungs
      .map((r, i) => ({
        key: `rung-${i}`,
        label: rungText(r),
        points: oldestFirst.filter((x) => age(x) <= r.forSeconds && (age(x) > r.younger || (i === 0 && age(x) <= 0))),
        from: r.forSeconds,
        to: r.younger,
      }))
      .reverse(),
  ];
  const shown = p.points.find((x) => x.id === (hover ?? p.selected)) ?? p.points[0];
  const move = (d: number) => {
    const i = oldestFirst.findIndex((x) => x.id === shown?.id);
    const next = oldestFirst[Math.max(0, Math.min(oldestFirst.length - 1, i + d))];
    if (next) p.onSelect(next.id);
  };
  return (
    <div className="grid gap-2 p-4">
      <div
        role="listbox"
        aria-label="Recovery points"
        aria-activedescendant={shown ? `point-${shown.id}` : undefined}
        tabIndex={0}
        className="flex gap-1 pt-4"
        onKeyDown={(e) => {
          const d = { ArrowLeft: -1, ArrowRight: 1, Home: -1e6, End: 1e6 }[e.key];
          if (d) {
            e.preventDefault();
            move(d);
          }
        }}
      >
        {sections.map((s, i) => (
          <fieldset key={s.key} className="min-w-0" style={{ flex: s.points.length > 24 ? 2 : 1 }} aria-label={s.label}>
            <div
              className="relative h-10 rounded"
              style={{
                background: `color-mix(in srgb, var(--shallow) ${35 + (65 * (i + 1)) / sections.length}%, var(--card))`,
              }}
            >
              {s.points.map((x, n) => {
                const at =
                  s.from > s.to
                    ? (s.from - age(x)) / (s.from - s.to)
                    : s.points.length > 1
                      ? n / (s.points.length - 1)
                      : 0.5;
                const on = x.id === shown?.id;
                return (
                  // biome-ignore lint/a11y/useFocusableInteractive: the listbox holds the focus and walks with the arrow keys
                  // biome-ignore lint/a11y/useKeyWithClickEvents: as above
                  <div
                    key={x.id}
                    id={`point-${x.id}`}
                    role="option"
                    aria-selected={on}
                    aria-label={`Point ${x.number}, ${when(x.captureAt)}, loses ${span(x.losesSeconds)}${x.provedAt ? ", proved by a drill" : ""}${x.unusual ? ", unusual change" : ""}`}
                    className="absolute inset-y-0 w-2 cursor-pointer"
                    style={{ left: `calc(${Math.min(1, Math.max(0, at)) * 96 + 2}% - 4px)` }}
                    onMouseEnter={() => setHover(x.id)}
                    onMouseLeave={() => setHover(undefined)}
                    onClick={() => p.onSelect(x.id)}
                  >
                    <div
                      className={`mx-auto my-1 h-8 ${on ? "w-1 rounded bg-over" : "w-0.5 bg-deep dark:bg-water"}`}
                      style={on ? undefined : { background: "var(--water)" }}
                    />
                    {x.pinned && (
                      <span className="-top-4 -left-0.5 absolute text-[11px] text-tight" title="pinned">
                        ◆
                      </span>
                    )}
                    {x.consistency === "application" && (
                      <span
                        className="-top-3.5 -left-0.5 absolute text-[9px] text-water"
                        title="application-consistent"
                      >
                        ▲
                      </span>
                    )}
                    {(x.provedAt || x.unusual) && (
                      <span
                        className={`-bottom-1.5 -left-0.5 absolute rounded-sm bg-card px-px text-[9px] leading-none ${x.unusual ? "text-over-ink" : "text-good-ink"}`}
                        title={x.unusual ? "unusual change" : "proved by a drill"}
                      >
                        {x.unusual ? "!" : "✓"}
                      </span>
                    )}
                  </div>
                );
              })}
            </div>
            <div className="mt-1 truncate text-muted text-xs">{s.label}</div>
          </fieldset>
        ))}
      </div>
      {shown && (
        <div className="border-line border-t pt-2 text-xs" title={exactly(shown.captureAt)}>
          <strong>Point {shown.number}</strong> · captured {when(shown.captureAt)} · would lose{" "}
          {span((p.now - Date.parse(shown.captureAt)) / 1000)} · {size(shown.changedBytes)} changed,{" "}
          {size(shown.usedBytes)} whole · {shown.consistency}-consistent
          {shown.pinned && " · pinned"}
          {shown.inUse && " · in use"}
          {shown.provedAt && ` · proved by a drill ${when(shown.provedAt)}`}
          {shown.unusual && " · unusual change"} · {count(shown.machines.length, "machine")}
        </div>
      )}
    </div>
  );
}
