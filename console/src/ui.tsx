import { Dialog, DropdownMenu } from "radix-ui";
import { type ButtonHTMLAttributes, type ReactNode, useEffect, useId, useRef, useState } from "react";
import { Problem, type Schemas } from "./api";
import { exactly, when } from "./format";

export function Card(p: { title?: ReactNode; aside?: ReactNode; children: ReactNode; className?: string }) {
  return (
    <section className={`rounded-lg border border-line bg-card ${p.className ?? ""}`}>
      {p.title && (
        <header className="flex flex-wrap items-baseline justify-between gap-x-4 border-line border-b px-4 py-2.5">
          <h2 className="font-semibold">{p.title}</h2>
          {p.aside && <div className="text-muted text-xs">{p.aside}</div>}
        </header>
      )}
      {p.children}
    </section>
  );
}

type Kind = "plain" | "main" | "danger";
const looks: Record<Kind, string> = {
  plain: "border-line bg-card text-ink hover:border-muted",
  main: "border-deep bg-deep text-white hover:bg-deep-2",
  danger: "border-over-bg bg-card text-over-ink hover:border-over",
};

/** Button is small within the rows of a table. */
export function Button({
  kind = "plain",
  small,
  className,
  ...p
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: Kind; small?: boolean }) {
  return (
    <button
      type="button"
      {...p}
      className={`inline-flex cursor-pointer items-center gap-1.5 whitespace-nowrap rounded-md border font-semibold ${small ? "px-2 py-1 text-xs" : "px-3 py-1.5 text-[13px]"} disabled:cursor-not-allowed disabled:opacity-55 ${looks[kind]} ${className ?? ""}`}
    />
  );
}

const states: Record<string, { shape: string; look: string; word: string }> = {
  over: { shape: "▲", look: "bg-over-bg text-over-ink", word: "Over" },
  stalled: { shape: "■", look: "bg-over-bg text-over-ink", word: "Stalled" },
  "cut off": { shape: "✕", look: "bg-over-bg text-over-ink", word: "Cut off" },
  tight: { shape: "◆", look: "bg-tight-bg text-tight-ink", word: "Tight" },
  seeding: { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Seeding" },
  "failed over": { shape: "◈", look: "bg-tight-bg text-tight-ink", word: "Failed over" },
  paused: { shape: "‖", look: "bg-still-bg text-ink", word: "Paused" },
  "on target": { shape: "●", look: "bg-good-bg text-good-ink", word: "On target" },
  ended: { shape: "□", look: "bg-still-bg text-ink", word: "Ended" },
  up: { shape: "●", look: "bg-good-bg text-good-ink", word: "Up" },
  part: { shape: "◐", look: "bg-tight-bg text-tight-ink", word: "In part" },
  "ready yes": { shape: "●", look: "bg-good-bg text-good-ink", word: "Would recover" },
  "ready warned": { shape: "◆", look: "bg-tight-bg text-tight-ink", word: "Would recover, with warnings" },
  "ready no": { shape: "✕", look: "bg-over-bg text-over-ink", word: "Would not recover" },
  "ready unknown": { shape: "?", look: "bg-still-bg text-ink", word: "Not known" },
  "landing preparing": { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Being made" },
  "landing waiting": { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Waits for its turn" },
  "landing copying": { shape: "◔", look: "bg-seeding-bg text-seeding", word: "Copied first" },
  "landing running": { shape: "◑", look: "bg-seeding-bg text-seeding", word: "Runs off the point" },
  "landing local": { shape: "●", look: "bg-good-bg text-good-ink", word: "Local" },
  "landing off": { shape: "○", look: "bg-still-bg text-ink", word: "Off, not local" },
  "landing removing": { shape: "◌", look: "bg-still-bg text-ink", word: "Being removed" },
  "landing gone": { shape: "□", look: "bg-still-bg text-ink", word: "Gone" },
  "landing failed": { shape: "✕", look: "bg-over-bg text-over-ink", word: "Cannot go on" },
  "drill starting": { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Starting" },
  "drill open": { shape: "◑", look: "bg-seeding-bg text-seeding", word: "Open" },
  "drill clearing": { shape: "◌", look: "bg-still-bg text-ink", word: "Being cleared" },
  "drill checking": { shape: "◔", look: "bg-seeding-bg text-seeding", word: "Being checked" },
  "drill ran": { shape: "●", look: "bg-good-bg text-good-ink", word: "Ran" },
  "drill passed": { shape: "●", look: "bg-good-bg text-good-ink", word: "Passed" },
  "drill failed": { shape: "▲", look: "bg-over-bg text-over-ink", word: "Failed" },
  "drill stopped": { shape: "◇", look: "bg-still-bg text-ink", word: "Ended before it could tell" },
  "failover draining": { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Draining" },
  "failover stopping": { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Home shuts down" },
  "failover sealing": { shape: "◔", look: "bg-seeding-bg text-seeding", word: "Last changes" },
  "failover turning": { shape: "◔", look: "bg-seeding-bg text-seeding", word: "Turning" },
  "failover starting": { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Starting" },
  "failover open": { shape: "◆", look: "bg-tight-bg text-tight-ink", word: "Runs here, undecided" },
  "failover replacing": { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Started anew" },
  "failover accepting": { shape: "◔", look: "bg-seeding-bg text-seeding", word: "Being accepted" },
  "failover clearing": { shape: "◌", look: "bg-still-bg text-ink", word: "Being cleared" },
  "failover returning": { shape: "◌", look: "bg-still-bg text-ink", word: "Given back" },
  "failover stopped": { shape: "‖", look: "bg-tight-bg text-tight-ink", word: "Stopped" },
  "failover accepted": { shape: "●", look: "bg-good-bg text-good-ink", word: "Accepted" },
  "failover backed out": { shape: "◇", look: "bg-still-bg text-ink", word: "Backed out" },
  "member waits": { shape: "○", look: "bg-still-bg text-ink", word: "Waits for its turn" },
  "member starts": { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Starts" },
  "member up": { shape: "●", look: "bg-good-bg text-good-ink", word: "Has come up" },
  "member over": { shape: "□", look: "bg-still-bg text-ink", word: "Over" },
  "member refused": { shape: "✕", look: "bg-over-bg text-over-ink", word: "Cannot begin" },
  "member skipped": { shape: "◇", look: "bg-tight-bg text-tight-ink", word: "Left out" },
  "step ahead": { shape: "○", look: "bg-still-bg text-ink", word: "Ahead" },
  "step running": { shape: "◌", look: "bg-seeding-bg text-seeding", word: "Being done" },
  "step asking": { shape: "◆", look: "bg-over-bg text-over-ink", word: "Failed: what now?" },
  "step passed": { shape: "●", look: "bg-good-bg text-good-ink", word: "Done" },
  "step failed": { shape: "▲", look: "bg-over-bg text-over-ink", word: "Failed" },
  "step skipped": { shape: "◇", look: "bg-tight-bg text-tight-ink", word: "Left out" },
  fine: { shape: "●", look: "bg-good-bg text-good-ink", word: "Fine" },
  strained: { shape: "◆", look: "bg-tight-bg text-tight-ink", word: "Strained" },
  unknown: { shape: "?", look: "bg-still-bg text-ink", word: "Unknown" },
  "alert urgent": { shape: "▲", look: "bg-over-bg text-over-ink", word: "Urgent" },
  "alert warning": { shape: "◆", look: "bg-tight-bg text-tight-ink", word: "Warning" },
  "alert cleared": { shape: "●", look: "bg-good-bg text-good-ink", word: "Cleared" },
  "silence holds": { shape: "‖", look: "bg-still-bg text-ink", word: "Holds" },
  "silence waits": { shape: "○", look: "bg-still-bg text-ink", word: "Does not hold" },
  "delivery taken": { shape: "●", look: "bg-good-bg text-good-ink", word: "Taken" },
  "delivery failed": { shape: "✕", look: "bg-over-bg text-over-ink", word: "Failed" },
  down: { shape: "✕", look: "bg-over-bg text-over-ink", word: "Down" },
};

/** State names a state by word, shape and colour. */
export function State({ of, children }: { of: string; children?: ReactNode }) {
  const s = states[of] ?? { shape: "·", look: "bg-still-bg text-ink", word: of };
  return (
    <span
      className={`inline-flex items-center gap-1.5 whitespace-nowrap rounded px-2 py-0.5 font-semibold text-xs ${s.look}`}
    >
      <span aria-hidden="true" className="text-[9px]">
        {s.shape}
      </span>
      {s.word}
      {children}
    </span>
  );
}

/** Health shows how something that is no group is, and why if it is not fine. */
export function Health({ of }: { of?: Schemas["Condition"] }) {
  if (!of) return null;
  return (
    <span className="inline-grid gap-0.5">
      <span>
        <State of={of.word} />
        {of.since && (
          <span className="text-muted text-xs">
            {" "}
            since <When at={of.since} />
          </span>
        )}
      </span>
      {of.cause && (
        <span className="max-w-[60ch] text-xs">
          {of.cause} <span className="text-muted">{of.mend}</span>
        </span>
      )}
    </span>
  );
}

export function When({ at }: { at: string | undefined | null }) {
  return (
    <time dateTime={at ?? undefined} title={exactly(at)}>
      {when(at)}
    </time>
  );
}

export function Fault({ of }: { of: unknown }) {
  if (!of) return null;
  const p = of instanceof Problem ? of : new Problem(0, of instanceof Error ? of.message : String(of), "", []);
  return (
    <div role="alert" className="rounded-md border border-over bg-over-bg px-3 py-2 text-over-ink">
      <div className="font-semibold">{p.title}</div>
      {p.detail && <div>{p.detail}</div>}
      {p.errors.map((e) => (
        <div key={e.field + e.message}>{e.message}</div>
      ))}
    </div>
  );
}

/** Field labels an input and says what is wrong with it. */
export function Field(p: {
  label: string;
  hint?: ReactNode;
  faults?: string[];
  children: (id: string, described: string) => ReactNode;
}) {
  const id = useId();
  return (
    <div className="grid content-start gap-1">
      <label htmlFor={id} className="font-medium">
        {p.label}
      </label>
      {p.children(id, `${id}-note`)}
      <div id={`${id}-note`} className="text-xs">
        {p.faults?.length ? (
          <span className="text-over-ink">✕ {p.faults.join(" ")}</span>
        ) : (
          <span className="text-muted">{p.hint}</span>
        )}
      </div>
    </div>
  );
}

export const inputLook =
  "w-full rounded-md border border-line bg-card px-2.5 py-1.5 text-ink placeholder:text-muted disabled:opacity-60";

/** Once shows what is not shown again. */
export function Once(p: { of?: string; until?: string; children: ReactNode }) {
  return (
    <div className="rounded bg-good-bg px-2.5 py-1.5 text-good-ink text-xs">
      {p.of} {p.until && <>once, until {when(p.until)}. </>}Shown once:{" "}
      <code className="select-all break-all">{p.children}</code>
    </div>
  );
}

export function Page(p: { crumbs?: ReactNode; title: ReactNode; actions?: ReactNode; children: ReactNode }) {
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <header className="flex flex-wrap items-end justify-between gap-3">
        <div>
          {p.crumbs && <div className="mb-0.5 text-muted text-xs">{p.crumbs}</div>}
          <h1 className="flex flex-wrap items-center gap-2.5 font-bold text-[21px] leading-tight">{p.title}</h1>
        </div>
        <div className="flex flex-wrap gap-2">{p.actions}</div>
      </header>
      {p.children}
    </div>
  );
}

export function Empty(p: { children: ReactNode; action?: ReactNode }) {
  return (
    <div className="grid justify-items-start gap-3 px-4 py-8 text-muted">
      <div>{p.children}</div>
      {p.action}
    </div>
  );
}

export function Modal(p: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  title: string;
  intro?: ReactNode;
  children: ReactNode;
}) {
  return (
    <Dialog.Root open={p.open} onOpenChange={p.onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content className="-translate-x-1/2 -translate-y-1/2 fixed top-1/2 left-1/2 grid max-h-[90vh] w-[min(560px,94vw)] gap-3 overflow-auto rounded-lg border border-line bg-card p-5 shadow-xl">
          <Dialog.Title className="font-bold text-base">{p.title}</Dialog.Title>
          <Dialog.Description asChild>
            <div className="text-muted">{p.intro}</div>
          </Dialog.Description>
          {p.children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

export function Bar({ share, label, tone = "bg-water" }: { share: number; label: string; tone?: string }) {
  const pct = Math.max(0, Math.min(100, share * 100));
  return (
    <div
      role="progressbar"
      aria-label={label}
      aria-valuenow={Math.round(pct)}
      aria-valuemin={0}
      aria-valuemax={100}
      className="h-1.5 overflow-hidden rounded-full bg-still-bg"
    >
      <div className={`h-full rounded-full ${tone}`} style={{ width: `${pct}%` }} />
    </div>
  );
}

export const th = "whitespace-nowrap px-4 py-2 text-left text-muted text-xs";
export const td = "px-4 py-2 align-top";

/** Heads is the head of a table. */
export function Heads({ of }: { of: string[] }) {
  return (
    <thead>
      <tr>
        {of.map((t) => (
          <th key={t} className={th}>
            {t}
          </th>
        ))}
      </tr>
    </thead>
  );
}

/** RowMenu holds what can be done with a row of a table beside the first thing. */
export function RowMenu({ of, items }: { of: string; items: { text: string; act: () => void; why?: string }[] }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button small aria-label={`More for ${of}`}>
          More ▾
        </Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="min-w-40 rounded-md border border-line bg-card p-1 shadow-xl">
          {items.map((x) => (
            <DropdownMenu.Item
              key={x.text}
              disabled={!!x.why}
              onSelect={x.act}
              className="cursor-pointer rounded px-2.5 py-1.5 outline-none data-[disabled]:cursor-not-allowed data-[highlighted]:bg-still-bg data-[disabled]:text-muted"
            >
              {x.text}
              {x.why && <span className="block text-muted text-xs">{x.why}</span>}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** Listed lists things, each with one button beside it. */
export function Listed<T extends { id: string }>(p: {
  items: T[] | undefined;
  button: { text: string; act: (x: T) => void; danger?: boolean; busy?: boolean };
  hidden?: boolean;
  beside?: (x: T) => ReactNode;
  children: (x: T) => ReactNode;
}) {
  return (
    <ul>
      {p.items?.map((x) => (
        <li key={x.id} className="flex items-center justify-between gap-2 border-line border-b px-4 py-2">
          <span>{p.children(x)}</span>
          {!p.hidden && (
            <span className="flex items-center gap-2">
              {p.beside?.(x)}
              <Button
                small
                kind={p.button.danger ? "danger" : "plain"}
                disabled={p.button.busy}
                onClick={() => p.button.act(x)}
              >
                {p.button.text}
              </Button>
            </span>
          )}
        </li>
      ))}
    </ul>
  );
}

/** Find is the search of a list; what is typed is looked for when the typing rests. */
export function Find(p: { label: string; hint: string; value: string; narrow?: boolean; onFind: (q: string) => void }) {
  const [text, setText] = useState(p.value);
  const find = useRef(p.onFind);
  find.current = p.onFind;
  useEffect(() => {
    if (text === p.value) return;
    const t = window.setTimeout(() => find.current(text), 150);
    return () => window.clearTimeout(t);
  }, [text, p.value]);
  return (
    <input
      type="search"
      aria-label={p.label}
      placeholder={p.hint}
      className={`${inputLook} ${p.narrow ? "max-w-52" : "max-w-80"}`}
      value={text}
      onChange={(e) => setText(e.target.value)}
    />
  );
}
