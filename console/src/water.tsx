import { useId } from "react";
import type { Schemas } from "./api";
import { clockTime, dayTime, span } from "./format";

type Vertex = Schemas["Vertex"];

/** shape turns a sawtooth into an area within w × h, bottom up. */
function shape(vs: Vertex[], from: number, to: number, top: number, w: number, h: number) {
  const x = (t: number) => ((t - from) / Math.max(1, to - from)) * w;
  const y = (s: number) => h - Math.min(1, s / top) * h;
  const corners = vs.map((v) => `${x(Date.parse(v.at)).toFixed(1)},${y(v.seconds).toFixed(1)}`);
  const first = vs[0];
  const last = vs[vs.length - 1];
  if (!first || !last) return { line: "", area: "", y };
  const line = `M${corners.join("L")}`;
  const area = `${line}L${x(Date.parse(last.at)).toFixed(1)},${h}L${x(Date.parse(first.at)).toFixed(1)},${h}Z`;
  return { line, area, y };
}

type Target = { since: string; seconds: number };

/** promised gives the targets that held in a stretch of time, each from when it did. */
function promised(targets: Target[] | undefined, now: number, from: number): { since: number; seconds: number }[] {
  // A pause is told of as well, and changes no target.
  const ts = (targets ?? [])
    .map((t) => ({ since: Date.parse(t.since), seconds: t.seconds }))
    .filter((t, i, all) => i === 0 || t.seconds !== all[i - 1]?.seconds);
  const first = Math.max(
    0,
    ts.findLastIndex((t) => t.since <= from),
  );
  const out = ts.slice(first).map((t, i) => (i ? t : { ...t, since: from }));
  return out.length ? out : [{ since: from, seconds: now }];
}

/** Water is the one drawing of exposure: water, and the RPO target as a dashed
 * mark, as high as it was promised at the time; what stands above the mark is
 * vermilion. */
function Water(p: {
  vertices: Vertex[];
  from: number;
  to: number;
  target: number;
  targets?: Target[];
  top: number;
  w: number;
  h: number;
}) {
  const id = useId();
  const { line, area, y } = shape(p.vertices, p.from, p.to, p.top, p.w, p.h);
  const x = (t: number) => (Math.min(1, Math.max(0, t - p.from) / Math.max(1, p.to - p.from)) * p.w).toFixed(1);
  const marks = promised(p.targets, p.target, p.from);
  const mark = `${marks.map((m, i) => `${i ? "H" : "M"}${x(m.since)}${i ? "V" : ","}${y(m.seconds)}`).join("")}H${p.w}`;
  return (
    <g>
      <clipPath id={`${id}-above`}>
        <path d={`${mark}V0H0Z`} />
      </clipPath>
      <path d={area} fill="var(--shallow)" />
      <path
        d={line}
        fill="none"
        stroke="var(--water)"
        strokeWidth={1.2}
        vectorEffect="non-scaling-stroke"
        strokeLinejoin="round"
      />
      <g clipPath={`url(#${id}-above)`}>
        <path d={area} fill="var(--over)" opacity={0.8} />
        <path d={line} fill="none" stroke="var(--over)" strokeWidth={1.2} vectorEffect="non-scaling-stroke" />
      </g>
      <path
        d={mark}
        fill="none"
        stroke="var(--ink)"
        strokeWidth={1.2}
        strokeDasharray="4 3"
        vectorEffect="non-scaling-stroke"
      />
    </g>
  );
}

const peak = (vs: Vertex[]) => vs.reduce((m, v) => Math.max(m, v.seconds), 0);

/** Strip is the water of one group in a list. */
export function Strip(p: { vertices: Vertex[]; from: string; to: string; target: number; label: string }) {
  const top = Math.max(p.target * 1.35, Math.min(peak(p.vertices), p.target * 2.6) * 1.05);
  return (
    <svg
      viewBox="0 0 320 44"
      preserveAspectRatio="none"
      role="img"
      aria-label={p.label}
      className="block h-11 w-full overflow-visible"
    >
      <Water
        vertices={p.vertices}
        from={Date.parse(p.from)}
        to={Date.parse(p.to)}
        target={p.target}
        top={top}
        w={320}
        h={44}
      />
      <line
        x1={0}
        x2={320}
        y1={44}
        y2={44}
        stroke="var(--water)"
        strokeWidth={1}
        vectorEffect="non-scaling-stroke"
        opacity={0.5}
      />
    </svg>
  );
}

const steps = [1, 5, 10, 30, 60, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400, 172800, 604800];
const niceStep = (range: number, n: number) => steps.find((s) => range / s <= n) ?? 604800;

/** Mark is something that happened at an instant: a change by somebody, or an incident. */
export type Mark = { at: string; text: string; incident: boolean };

/** Chart is the water of one group at large, with its scales. */
export function Chart(p: {
  vertices: Vertex[];
  marks?: Mark[];
  from: string;
  to: string;
  target: number;
  targets: Target[];
  label: string;
}) {
  const w = 830;
  const h = 180;
  const left = 66;
  const from = Date.parse(p.from);
  const marks = promised(p.targets, p.target, from);
  const highest = Math.max(p.target, ...marks.map((m) => m.seconds));
  const top = Math.max(highest * 1.45, peak(p.vertices) * 1.1, 1);
  const to = Date.parse(p.to);
  const yStep = niceStep(top, 5);
  const ys: number[] = [];
  for (let s = 0; s <= top; s += yStep) ys.push(s);
  const xStep = niceStep((to - from) / 1000, 9) * 1000;
  const offset = new Date(from).getTimezoneOffset() * 60_000;
  const xs: number[] = [];
  for (let t = Math.ceil((from - offset) / xStep) * xStep + offset; t <= to; t += xStep) xs.push(t);
  const x = (t: number) => left + ((t - from) / (to - from)) * w;
  const y = (s: number) => 14 + h - (s / top) * h;
  // Near the right edge there is no room for words but to the left.
  const late = (t: number) => x(t) > left + w * 0.75;
  const label = xStep >= 86_400_000 ? dayTime : clockTime;
  return (
    <svg viewBox={`0 0 ${left + w + 26} ${h + 44}`} role="img" aria-label={p.label} className="block w-full">
      {ys.map((s) => (
        <g key={s}>
          <line x1={left} x2={left + w} y1={y(s)} y2={y(s)} stroke="var(--line)" strokeWidth={1} />
          <text x={left - 8} y={y(s) + 4} textAnchor="end" fontSize={13} fill="var(--muted)">
            {s === 0 ? "0" : span(s)}
          </text>
        </g>
      ))}
      <g transform={`translate(${left},14)`}>
        <Water vertices={p.vertices} from={from} to={to} target={p.target} targets={p.targets} top={top} w={w} h={h} />
      </g>
      {marks.map((m, i) => (
        <text
          key={m.since}
          x={late(m.since) ? x(m.since) - 6 : Math.max(left, x(m.since)) + 6}
          textAnchor={late(m.since) ? "end" : "start"}
          y={y(m.seconds) - 6}
          fontSize={13}
          fontWeight={600}
          fill="var(--ink)"
          stroke="var(--card)"
          strokeWidth={3}
          paintOrder="stroke"
        >
          {i ? `from ${label(m.since)} ` : "RPO target "}
          {span(m.seconds)}
        </text>
      ))}
      {p.marks
        ?.filter((m) => Date.parse(m.at) >= from && Date.parse(m.at) <= to)
        .map((m) => {
          const at = x(Date.parse(m.at));
          return (
            <g key={`${m.at}${m.text}`}>
              <title>{`${dayTime(Date.parse(m.at))}: ${m.text}`}</title>
              <line
                x1={at}
                x2={at}
                y1={12}
                y2={14 + h}
                stroke={m.incident ? "var(--over)" : "var(--muted)"}
                strokeDasharray="1 3"
              />
              {m.incident ? (
                <path d={`M${at - 5},2H${at + 5}L${at},11Z`} fill="var(--over)" />
              ) : (
                <path d={`M${at - 4},2H${at + 4}V10H${at - 4}Z`} fill="var(--muted)" />
              )}
              <rect x={at - 7} y={0} width={14} height={h + 14} fill="transparent" />
            </g>
          );
        })}
      {xs.map((t) => (
        <text key={t} x={x(t)} y={h + 35} textAnchor="middle" fontSize={13} fill="var(--muted)">
          {label(t)}
        </text>
      ))}
    </svg>
  );
}
