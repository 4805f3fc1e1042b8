import { useMutation } from "@tanstack/react-query";
import { type FormEvent, type ReactNode, useState } from "react";
import { useNavigate } from "react-router";
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

export function SignInPage() {
  const go = useNavigate();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const m = useMutation({
    mutationFn: () => ask(api.POST("/session", { body: { name, password } })),
    onSuccess: () => {
      queries.clear();
      go("/");
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    m.mutate();
  };
  return (
    <Frame title="Sign in">
      <form className="grid gap-3" onSubmit={submit}>
        <Field label="Name">
          {(id) => (
            <input
              id={id}
              name="name"
              autoComplete="username"
              required
              className={inputLook}
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
          )}
        </Field>
        <Field label="Password">
          {(id) => (
            <input
              id={id}
              name="password"
              type="password"
              autoComplete="current-password"
              required
              className={inputLook}
              value={password}
              onChange={(e) => setPassword(e.target.value)}
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
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const m = useMutation({
    mutationFn: () => ask(api.POST("/welcome", { body: { token, name, password } })),
    onSuccess: () => {
      queries.clear();
      go("/");
    },
  });
  const p = m.error instanceof Problem ? m.error : undefined;
  return (
    <Frame title="Become the administrator of this site">
      <form
        className="grid gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          m.mutate();
        }}
      >
        <Field label="Your name" faults={p?.at("name")}>
          {(id) => (
            <input id={id} required className={inputLook} value={name} onChange={(e) => setName(e.target.value)} />
          )}
        </Field>
        <Field label="A password" hint="At least 10 characters." faults={p?.at("password")}>
          {(id) => (
            <input
              id={id}
              type="password"
              autoComplete="new-password"
              required
              className={inputLook}
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          )}
        </Field>
        <Fault of={p && !p.at("name").length && !p.at("password").length ? p : undefined} />
        <Button kind="main" type="submit" disabled={m.isPending} className="justify-center">
          Go in
        </Button>
      </form>
    </Frame>
  );
}
