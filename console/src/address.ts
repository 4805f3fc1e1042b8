import { useCallback } from "react";
import { useLocation, useNavigate, useSearchParams } from "react-router";

// What a page shows is in its address: filters, order and the dialog that is open.
// So it can be sent to somebody, and Back does what people expect.

/** useAddress reads parameters of the page's address, and sets them in place. */
export function useAddress(): [(name: string) => string, (to: Record<string, string>) => void] {
  const [params, setParams] = useSearchParams();
  const get = useCallback((name: string) => params.get(name) ?? "", [params]);
  const set = useCallback(
    (to: Record<string, string>) =>
      setParams(
        (was) => {
          const p = new URLSearchParams(was);
          for (const [k, v] of Object.entries(to)) {
            if (v) p.set(k, v);
            else p.delete(k);
          }
          return p;
        },
        { replace: true },
      ),
    [setParams],
  );
  return [get, set];
}

/** useDialog tells which dialog the address names and on what, and opens and closes dialogs. */
export function useDialog<Name extends string>(): {
  name: Name | "";
  ids: string[];
  open: (name: Name, ...ids: string[]) => void;
  close: () => void;
} {
  const [params] = useSearchParams();
  const go = useNavigate();
  const here = useLocation();
  const [name, ids] = (params.get("dialog") ?? "").split(":");
  const at = (dialog: string) => {
    const p = new URLSearchParams(here.search);
    if (dialog) p.set("dialog", dialog);
    else p.delete("dialog");
    return { pathname: here.pathname, search: p.toString() };
  };
  return {
    name: name as Name | "",
    ids: ids ? ids.split(",") : [],
    open: (n, ...of) => go(at([n, of.join(",")].filter(Boolean).join(":")), { state: { opened: true } }),
    // Who opened the dialog here goes back to where they were; who came by its
    // address has nothing to go back to.
    close: () => (here.state?.opened ? go(-1) : go(at(""), { replace: true })),
  };
}
