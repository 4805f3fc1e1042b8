import { useMutation, useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { type UseFormReturn, useForm } from "react-hook-form";
import { useNavigate, useSearchParams } from "react-router";
import { api, ask, Problem, queries } from "../api";
import { asks } from "../asks";
import { canPasskey, signInByPasskey } from "../passkey";
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

type Person = { name: string; password: string; code: string };

/** codeAsked tells whether a refusal asks for a code, and shows the field for it from then on. */
function codeAsked(e: unknown): boolean {
  return e instanceof Problem && e.at("code").length > 0;
}

/** bodyOf leaves an empty code out. */
const bodyOf = (v: Person) => ({ name: v.name, password: v.password, code: v.code.trim() || undefined });

function CodeField({ of, refusal }: { of: UseFormReturn<Person>; refusal: unknown }) {
  return (
    <Field
      label="Code"
      hint="Of your authenticator, or a recovery code."
      faults={of.formState.submitCount > 1 && refusal instanceof Problem ? refusal.at("code") : undefined}
    >
      {(id) => (
        <input
          id={id}
          autoComplete="one-time-code"
          // biome-ignore lint/a11y/noAutofocus: it is the one thing that is asked for
          autoFocus
          className={inputLook}
          {...of.register("code")}
        />
      )}
    </Field>
  );
}

/** takeRefusal reads why a sign-on elsewhere let nobody in, which the service left in a cookie, once. */
function takeRefusal(): string | undefined {
  const c = document.cookie.split("; ").find((x) => x.startsWith("kestrel_refused="));
  // biome-ignore lint/suspicious/noDocumentCookie: the other interface is not everywhere
  document.cookie = "kestrel_refused=; path=/sign-in; max-age=0";
  return c && decodeURIComponent(c.slice("kestrel_refused=".length));
}

export function SignInPage() {
  const go = useNavigate();
  const [params] = useSearchParams();
  const to = params.get("to") ?? "/";
  const [refused] = useState(() => (params.get("refused") ? takeRefusal() : undefined));
  const ways = useQuery(asks.ways).data;
  const form = useForm<Person>({ defaultValues: { name: "", password: "", code: "" } });
  const [coded, setCoded] = useState(false);
  const m = useMutation({
    onError: (e) => setCoded((was) => was || codeAsked(e)),
    mutationFn: (v: Person) => ask(api.POST("/session", { body: bodyOf(v) })),
    onSuccess: () => {
      queries.clear();
      // Back to where somebody was going; never to another site.
      go(/^\/(?!\/)/.test(to) ? to : "/");
    },
  });
  const key = useMutation({
    mutationFn: signInByPasskey,
    onSuccess: () => {
      queries.clear();
      go(/^\/(?!\/)/.test(to) ? to : "/");
    },
  });
  return (
    <Frame title="Sign in">
      {refused && !m.error && (
        <div role="alert" className="rounded-md border border-over bg-over-bg px-3 py-2 text-over-ink">
          {refused}
        </div>
      )}
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
        {coded && <CodeField of={form} refusal={m.error} />}
        {codeAsked(m.error) ? null : m.error instanceof Problem && m.error.status === 401 ? (
          <div role="alert" className="text-over-ink">
            ✕ {m.error.detail}
          </div>
        ) : (
          <Fault of={m.error} />
        )}
        <Button kind="main" type="submit" disabled={m.isPending} className="justify-center">
          Sign in
        </Button>
      </form>
      {ways?.passkeys && canPasskey() && (
        <Button className="justify-center" disabled={key.isPending} onClick={() => key.mutate()}>
          Sign in with a passkey
        </Button>
      )}
      <Fault of={key.error} />
      {ways?.signOn && (
        <a
          href={`/sign-on?to=${encodeURIComponent(to)}`}
          className="rounded-md border border-line px-3 py-1.5 text-center font-semibold text-[13px] hover:border-muted"
        >
          Sign in at {ways.signOn}
        </a>
      )}
      <p className="text-muted text-xs">
        No administrator yet? On the site's host, “kestrel admin link” prints a one-time link.
      </p>
    </Frame>
  );
}

export function WelcomePage() {
  const go = useNavigate();
  const [token] = useState(() => window.location.hash.slice(1));
  const form = useForm<Person>({ defaultValues: { name: "", password: "", code: "" } });
  const [coded, setCoded] = useState(false);
  const m = useMutation({
    onError: (e) => setCoded((was) => was || codeAsked(e)),
    mutationFn: (v: Person) => ask(api.POST("/welcome", { body: { token, ...bodyOf(v) } })),
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
        {coded && <CodeField of={form} refusal={m.error} />}
        <Fault of={m.error && !["name", "password", "code"].some((f) => p?.at(f).length) ? m.error : undefined} />
        <Button kind="main" type="submit" disabled={m.isPending} className="justify-center">
          Go in
        </Button>
      </form>
    </Frame>
  );
}
