import { useMutation, useQueries } from "@tanstack/react-query";
import type { ComponentProps, ReactNode } from "react";
import { type FieldValues, type UseFormReturn, useForm } from "react-hook-form";
import { Problem } from "./api";
import { Button, Fault, Field, inputLook, Modal } from "./ui";

/**
 * FormDialog asks for something and does it: the service's refusal stands at the
 * field that it names, or above the buttons.
 */
export function FormDialog<V extends FieldValues, R>(p: {
  title: string;
  intro?: ReactNode;
  form: UseFormReturn<V>;
  act: (v: V) => Promise<R>;
  done: (result: R) => void;
  onClose: () => void;
  go: string;
  stay?: string;
  danger?: boolean;
  ready?: boolean;
  beside?: ReactNode;
  children: (refusal: Problem | undefined) => ReactNode;
}) {
  const m = useMutation({ mutationFn: p.act, onSuccess: p.done });
  const refusal = m.error instanceof Problem ? m.error : undefined;
  return (
    <Modal open onOpenChange={(o) => !o && p.onClose()} title={p.title} intro={p.intro}>
      <form className="grid gap-3" onSubmit={p.form.handleSubmit((v) => m.mutate(v))}>
        {p.children(refusal)}
        <Fault of={m.error && !refusal?.errors.length ? m.error : undefined} />
        <div className="flex justify-end gap-2">
          {p.beside}
          <Button onClick={p.onClose}>{p.stay ?? "Not now"}</Button>
          <Button kind={p.danger ? "danger" : "main"} type="submit" disabled={m.isPending || p.ready === false}>
            {p.go}
          </Button>
        </div>
      </form>
    </Modal>
  );
}

/** ConfirmDialog does what cannot be undone once its subject's name is typed. */
export function ConfirmDialog<R>(p: {
  title: string;
  intro: ReactNode;
  ask: string;
  name: string;
  act: () => Promise<R>;
  done: (result: R) => void;
  onClose: () => void;
  go: string;
  stay: string;
  children?: ReactNode;
}) {
  const form = useForm({ defaultValues: { name: "" } });
  return (
    <FormDialog
      title={p.title}
      intro={p.intro}
      form={form}
      act={p.act}
      done={p.done}
      onClose={p.onClose}
      go={p.go}
      stay={p.stay}
      danger
      ready={form.watch("name") === p.name}
    >
      {(refusal) => (
        <>
          {p.children}
          <Field label={`To go on, type ${p.ask}: ${p.name}`}>
            {(id) => <input id={id} autoComplete="off" className={inputLook} {...form.register("name")} />}
          </Field>
          {refusal?.errors.length ? <Fault of={refusal} /> : null}
        </>
      )}
    </FormDialog>
  );
}

/** Each loads what a dialog is about by its IDs, which came with the address. */
export function Each<T>(p: {
  of: string;
  ids: string[];
  load: (id: string) => Promise<T>;
  onClose: () => void;
  children: (all: T[]) => ReactNode;
}) {
  const all = useQueries({
    queries: p.ids.map((id) => ({ queryKey: [p.of, "of a dialog", id], queryFn: () => p.load(id), staleTime: 5000 })),
  });
  const fault = all.find((q) => q.error)?.error;
  if (fault) {
    return (
      <Modal open onOpenChange={(o) => !o && p.onClose()} title="It cannot be shown">
        <Fault of={fault} />
        <div className="flex justify-end">
          <Button onClick={p.onClose}>Close</Button>
        </div>
      </Modal>
    );
  }
  const got = all.flatMap((q) => (q.data === undefined ? [] : [q.data]));
  return got.length === p.ids.length && got.length ? p.children(got) : null;
}

/** every does something to several, one after another, and tells the first refusal after all were tried. */
export async function every<T>(all: T[], act: (x: T) => Promise<unknown>): Promise<void> {
  let first: unknown;
  for (const x of all) {
    try {
      await act(x);
    } catch (e) {
      first ??= e;
    }
  }
  if (first) throw first;
}

/** NameField asks for a group's name, without which nothing that cannot be taken back is begun. */
export function NameField({ of, faults, ...p }: { of: string; faults?: string[] } & ComponentProps<"input">) {
  return (
    <Field label={`To go on, type the group's name: ${of}`} faults={faults}>
      {(id) => <input id={id} className={inputLook} autoComplete="off" {...p} />}
    </Field>
  );
}
