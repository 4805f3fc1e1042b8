import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Search } from "lucide-react";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, ask } from "./api";
import { useSettled } from "./settled";
import { inputLook, Modal } from "./ui";

/** writing tells whether somebody types into something, so that a key is a letter. */
function writing(e: KeyboardEvent): boolean {
  const t = e.target;
  return t instanceof HTMLElement && (t.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(t.tagName));
}

/** FindAnything is a box that finds things by name, opened by its button, by / or by Ctrl or ⌘ with K. */
export function FindAnything() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const k = e.key.toLowerCase() === "k" && (e.ctrlKey || e.metaKey);
      if (!k && (e.key !== "/" || writing(e) || e.ctrlKey || e.metaKey || e.altKey)) return;
      if (document.querySelector("[role=dialog]")) return;
      e.preventDefault();
      setOpen(true);
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, []);
  return (
    <>
      <button
        type="button"
        className="mx-2 mb-2 flex w-[calc(100%-16px)] cursor-pointer items-center gap-2.5 rounded-md border border-white/20 px-3 py-1.5 text-left hover:bg-deep-2"
        onClick={() => setOpen(true)}
      >
        <Search aria-hidden="true" className="size-4" /> Find…
        <kbd className="ml-auto text-xs opacity-70">/</kbd>
      </button>
      {open && <Box onClose={() => setOpen(false)} />}
    </>
  );
}

function Box({ onClose }: { onClose: () => void }) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const q = useSettled(text.trim());
  const go = useNavigate();
  const found = useQuery({
    queryKey: ["search", q],
    queryFn: () => ask(api.GET("/search", { params: { query: { q } } })),
    enabled: q !== "",
    placeholderData: keepPreviousData,
  });
  const hits = q ? (found.data ?? []) : [];
  const chosen = Math.min(at, Math.max(0, hits.length - 1));
  const leave = (page: string) => {
    onClose();
    go(page);
  };
  return (
    <Modal open onOpenChange={(o) => !o && onClose()} title="Find">
      <input
        // biome-ignore lint/a11y/noAutofocus: the box was opened to type into it
        autoFocus
        role="combobox"
        aria-label="Find groups, machines, sites, platforms, tiers and landed machines by name"
        aria-expanded={hits.length > 0}
        aria-controls="found"
        aria-activedescendant={hits.length ? `found-${chosen}` : undefined}
        autoComplete="off"
        placeholder="Groups, machines, sites, platforms, tiers"
        className={inputLook}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          const by = { ArrowDown: 1, ArrowUp: -1 }[e.key];
          if (by) {
            e.preventDefault();
            setAt((chosen + by + hits.length) % Math.max(1, hits.length));
          }
          const hit = hits[chosen];
          if (e.key === "Enter" && hit) leave(hit.page);
        }}
      />
      <div id="found" role="listbox" aria-label="Found" className="grid max-h-96 overflow-y-auto">
        {hits.map((h, i) => (
          <div
            key={h.kind + h.name + h.note}
            id={`found-${i}`}
            role="option"
            tabIndex={-1}
            aria-selected={i === chosen}
            className={`flex cursor-pointer items-baseline gap-3 rounded px-2 py-1.5 ${i === chosen ? "bg-seeding-bg" : ""}`}
            onMouseMove={() => setAt(i)}
            onClick={() => leave(h.page)}
            onKeyDown={(e) => e.key === "Enter" && leave(h.page)}
          >
            <span className="w-16 shrink-0 text-muted text-xs">{h.kind}</span>
            <span className="font-semibold">{h.name}</span>
            <span className="truncate text-muted text-xs">{h.note}</span>
          </div>
        ))}
      </div>
      {q !== "" && found.data && !hits.length && <p className="text-muted">Nothing is called that.</p>}
    </Modal>
  );
}
