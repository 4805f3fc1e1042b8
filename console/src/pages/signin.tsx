import { useMutation } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { useForm } from "react-hook-form";
import { useNavigate, useSearchParams } from "react-router";
import { api, ask, Problem, queries } from "../api";
import { Button, Fault, Field, inputLook } from "../ui";

function Frame({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="grid min-h-screen place-items-center bg-deep p-4">
      <div className="grid w-full max-w-sm gap-4 rounded-lg bg-card p-6 shadow-xl">
        <div className="flex items-center gap-2.5 font-bold">
          <img src="/mark.svg" alt="" className="size-7" /> Kestrel Tide
        </div>
        <h1 className="font-bold text-lg">{title}</h1>
        {children}
      </div>
    </main>
  );
}

type Person = { name: string; password: string };

export function SignInPage() {
  const go = useNavigate();
  const [params] = useSearchParams();
  const to = params.get("to") ?? "/";
  const form = useForm<Person>({ defaultValues: { name: "", password: "" } });
  const m = useMutation({
    mutationFn: (body: Person) => ask(api.POST("/session", { body })),
    onSuccess: () => {
      queries.clear();
      // Back to where somebody was going; never to another site.
      go(/^\/(?!\/)/.test(to) ? to : "/");
    },
  });
  return (
    <Frame title="Sign in">
      <form className="grid gap-3" onSubmit={form.handleSubmit((v) => m.mutate(v))}>
        <Field label="Name">
          {(id) => <input id={id} autoComplete="username" required className={inputLook} {...form.register("name")} />}
        </Field>
        <Field label="Password">
          {(id) => (
            <input
              id={id}
              type="password"
              autoComplete="current-password"
              required
              className={inputLook}
              {...form.register("password")}
            />
          )}
        </Field>
        {m.error instanceof Problem && m.error.status === 401 ? (
          <div role="alert" className="text-over-ink">
            ✕ Name or password is wrong.
          </div>
        ) : (
          <Fault of={m.error} />
        )}
        <Button kind="main" type="submit" disabled={m.isPending} className="justify-center">
          Sign in
        </Button>
      </form>
      <p className="text-muted text-xs">
        No administrator yet? On the site's host, “kestrel admin link” prints a one-time link.
      </p>
    </Frame>
  );
}

export function WelcomePage() {
  const go = useNavigate();
  const [token] = useState(() => window.location.hash.slice(1));
  const form = useForm<Person>({ defaultValues: { name: "", password: "" } });
  const m = useMutation({
    mutationFn: (v: Person) => ask(api.POST("/welcome", { body: { token, ...v } })),
    onSuccess: () => {
      queries.clear();
      go("/");
    },
  });
  const p = m.error instanceof Problem ? m.error : undefined;
  return (
    <Frame title="Welcome: choose a name and a password">
      <form className="grid gap-3" onSubmit={form.handleSubmit((v) => m.mutate(v))}>
        <Field label="Your name" faults={p?.at("name")}>
          {(id) => <input id={id} autoComplete="username" required className={inputLook} {...form.register("name")} />}
        </Field>
        <Field label="A password" hint="At least 10 characters." faults={p?.at("password")}>
          {(id) => (
            <input
              id={id}
              type="password"
              autoComplete="new-password"
              required
              className={inputLook}
              {...form.register("password")}
            />
          )}
        </Field>
        <Fault of={m.error && !p?.at("name").length && !p?.at("password").length ? m.error : undefined} />
        <Button kind="main" type="submit" disabled={m.isPending} className="justify-center">
          Go in
        </Button>
      </form>
    </Frame>
  );
}
