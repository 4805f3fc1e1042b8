import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import type { Schemas } from "./api";
import { clockTime, count, dayOf, dayTime, millis, rate, size } from "./format";

type Series = Schemas["Series"];
type Unit = Series["unit"];

/** amount writes a value of a series. */
export function amount(unit: Unit, v: number): string {
  switch (unit) {
    case "bytes":
      return size(v);
    case "bytes per second":
      return rate(v);
    case "seconds":
      return millis(v * 1000);
    default:
      return String(Math.round(v * 10) / 10);
  }
}

const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

/** grid puts series on the same steps; where nothing was measured there is a gap. */
function grid(all: Series[], from: number, to: number): { xs: number[]; at: (Schemas["Measured"] | undefined)[][] } {
  const step = Math.max(...all.map((s) => s.stepSeconds));
  const first = Math.floor(from / step) * step;
  const xs = Array.from({ length: Math.max(1, Math.ceil((to - first) / step)) }, (_, i) => first + i * step);
  const at = all.map((s) => {
    const by = new Map(s.values.map((v) => [Math.floor(Date.parse(v.at) / 1000 / step) * step, v]));
    return xs.map((x) => by.get(x));
  });
  return { xs, at };
}

// Where nothing fits, the scale is at least this high.
const least: Record<Unit, number> = { bytes: 1024, "bytes per second": 1024, seconds: 1, cycles: 4 };

const times = [2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400];

/** marks are places on a scale that people can read: powers of two for bytes, parts of hours for times. */
function marks(unit: Unit, top: number): number[] {
  const base = unit.startsWith("bytes") ? 2 : 10;
  let step: number;
  if (unit === "seconds" && top > 5) step = times.find((s) => top / s <= 4) ?? 86400;
  else if (base === 2) step = 2 ** Math.ceil(Math.log2(Math.max(top, 4) / 4));
  else {
    const raw = Math.max(top, 4) / 4;
    const p = 10 ** Math.floor(Math.log10(raw));
    step = p * ([1, 2, 5, 10].find((m) => m * p >= raw) ?? 10);
  }
  const out: number[] = [];
  for (let v = 0; v <= top + step / 1e6; v += step) out.push(v);
  return out;
}

/** mark writes an instant on a scale: midnight as its day. */
const mark = (t: number) =>
  new Date(t * 1000).getHours() + new Date(t * 1000).getMinutes() ? clockTime(t * 1000) : dayOf(t * 1000);

/**
 * Plot draws series of one unit over time: a level as its mean with what it was at least and at most around it, what
 * cycles did as columns of their sums. Under the pointer the values are written out.
 */
export function Plot(p: { title: string; series: Series[]; from: string; to: string; tone?: "over" }) {
  const box = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState<number>();
  const unit = p.series[0]?.unit ?? "cycles";
  const columns = p.series.some((s) => s.values[0]?.sum !== undefined);
  const { xs, at: values } = grid(p.series, Date.parse(p.from) / 1000, Date.parse(p.to) / 1000);
  const key = JSON.stringify([p.from, p.to, p.series.map((s) => [s.name, s.values.length, s.values.at(-1)])]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: key stands for what is drawn
  useEffect(() => {
    const el = box.current;
    if (!el) return;
    const draw = () => {
      el.replaceChildren();
      const tones = p.tone === "over" ? ["--over", "--tight"] : ["--water", "--seeding"];
      const data: (number | null)[][] = [xs];
      const series: uPlot.Series[] = [{}];
      const bands: uPlot.Band[] = [];
      values.forEach((vs, i) => {
        const stroke = colour(tones[i % tones.length] as string);
        if (columns) {
          data.push(vs.map((v) => v?.sum ?? null));
          const bars = uPlot.paths.bars?.({
            size: [0.7 / values.length, 60],
            align: values.length > 1 ? (i ? 1 : -1) : 0,
          });
          series.push({ stroke, fill: stroke, width: 0, paths: bars, points: { show: false } });
          return;
        }
        const n = series.length;
        data.push(vs.map((v) => v?.most ?? null));
        data.push(vs.map((v) => v?.least ?? null));
        data.push(vs.map((v) => v?.mean ?? null));
        const edge = { stroke: "transparent", width: 0, points: { show: false } };
        series.push(edge, edge, { stroke, width: 1.5, points: { show: xs.length < 3 } });
        bands.push({ series: [n, n + 1], fill: `color-mix(in srgb, ${stroke} 22%, transparent)` });
      });
      const top = Math.max(least[unit], ...data.slice(1).flatMap((d) => d.map((v) => v ?? 0)));
      const axis = { stroke: colour("--muted"), font: "11px Inter Variable", ticks: { show: false } };
      const u = new uPlot(
        {
          width: el.clientWidth,
          height: 120,
          padding: [6, 8, 0, 0],
          legend: { show: false },
          cursor: { y: false, points: { show: false }, drag: { x: false } },
          scales: { x: { range: [Date.parse(p.from) / 1000, Date.parse(p.to) / 1000] }, y: { range: [0, top * 1.05] } },
          axes: [
            { ...axis, grid: { show: false }, size: 24, space: 70, values: (_, ts) => ts.map(mark) },
            {
              ...axis,
              size: 64,
              grid: { stroke: colour("--line"), width: 1 },
              splits: () => marks(unit, top),
              values: (_, vs) => vs.map((v) => amount(unit, v)),
            },
          ],
          hooks: { setCursor: [(u) => setAt(u.cursor.idx ?? undefined)] },
          series,
          bands,
        },
        data as uPlot.AlignedData,
        el,
      );
      return u;
    };
    let u = draw();
    const again = new ResizeObserver(() => {
      if (u && Math.abs(u.width - el.clientWidth) > 1) u.setSize({ width: el.clientWidth, height: 120 });
    });
    again.observe(el);
    const scheme = matchMedia("(prefers-color-scheme: dark)");
    const other = () => {
      u?.destroy();
      u = draw();
    };
    scheme.addEventListener("change", other);
    return () => {
      again.disconnect();
      scheme.removeEventListener("change", other);
      u?.destroy();
    };
  }, [key]);
  const say = p.series.map((s, i) => summary(s, at === undefined ? undefined : values[i]?.[at]));
  return (
    <figure>
      <figcaption className="flex flex-wrap items-baseline justify-between gap-x-3 px-1">
        <span className="font-semibold">{p.title}</span>
        <span className="text-muted text-xs">
          {at !== undefined && xs[at] !== undefined && `${dayTime((xs[at] as number) * 1000)}: `}
          {say.map((text, i) => (
            <span key={p.series[i]?.name}>
              {i > 0 && " · "}
              {p.series.length > 1 && (
                <span
                  aria-hidden="true"
                  className={p.tone === "over" ? (i ? "text-tight" : "text-over") : i ? "text-seeding" : "text-water"}
                >
                  ■{" "}
                </span>
              )}
              {p.series.length > 1 && `${p.series[i]?.name} `}
              {text}
            </span>
          ))}
        </span>
      </figcaption>
      <div ref={box} role="img" aria-label={`${p.title}: ${say.join(", ")}`} className="h-[120px] min-w-0" />
    </figure>
  );
}

/** summary writes one value, or all of a series. */
function summary(s: Series, v: Schemas["Measured"] | undefined): string {
  if (v) {
    if (v.sum !== undefined)
      return `${amount(s.unit, v.sum)}${s.unit === "bytes" ? `, one cycle at most ${amount(s.unit, v.most)}` : ""}`;
    return `${amount(s.unit, v.mean)} in the mean, at most ${amount(s.unit, v.most)}`;
  }
  const most = s.values.reduce((m, x) => Math.max(m, x.most), 0);
  if (s.values[0]?.sum !== undefined) {
    const all = s.values.reduce((n, x) => n + (x.sum ?? 0), 0);
    return s.unit === "cycles" ? String(all) : `${amount(s.unit, all)} together`;
  }
  const mean = s.values.reduce((n, x) => n + x.mean, 0) / Math.max(1, s.values.length);
  return `${amount(s.unit, mean)} in the mean, at most ${amount(s.unit, most)}`;
}

/** steps says how finely something is drawn. */
export const every = (seconds: number) =>
  seconds >= 86400 ? "by days" : seconds >= 3600 ? "by hours" : `by ${count(seconds / 60, "minute")}`;
