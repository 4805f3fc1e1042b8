import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { api, ask, Problem } from "../api";
import { asks } from "../asks";
import { when } from "../format";
import { addPasskey, canPasskey } from "../passkey";
import { Button, Card, Fault, Field, inputLook, Listed } from "../ui";

/** SecondFactorCard sets up one's own second factor, and takes it off. */
export function SecondFactorCard() {
  const me = useQuery(asks.me).data;
  return (
    <Card title="Your second factor" aside="beside the password, or in place of it">
      <div className="grid gap-3 px-4 py-3">{me && (me.secondFactor.set ? <SetUp /> : <SetUpForm />)}</div>
      <PasskeysPart />
    </Card>
  );
}

/** PasskeysPart is one's own passkeys: each signs in alone, and then no password does. */
function PasskeysPart() {
  const qc = useQueryClient();
  const q = useQuery(asks.passkeys);
  const ways = useQuery(asks.ways).data;
  const again = () => {
    qc.invalidateQueries({ queryKey: ["passkeys"] });
    qc.invalidateQueries({ queryKey: ["me"] });
  };
  const form = useForm({ defaultValues: { name: "" } });
  const add = useMutation({
    mutationFn: (v: { name: string }) => addPasskey(v.name),
    onSuccess: () => {
      form.reset();
      again();
    },
  });
  const remove = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/session/passkeys/{id}", { params: { path: { id } } })),
    onSettled: again,
  });
  const p = add.error instanceof Problem ? add.error : undefined;
  if (!ways?.passkeys && !q.data?.length) return null;
  return (
    <div className="border-line border-t">
      <Listed items={q.data} button={{ text: "Remove", busy: remove.isPending, act: (k) => remove.mutate(k.id) }}>
        {(k) => (
          <>
            <strong>{k.name}</strong>{" "}
            <span className="text-muted text-xs">
              a passkey · made {when(k.createdAt)} · used {when(k.lastUsedAt)}
            </span>
          </>
        )}
      </Listed>
      {ways?.passkeys && canPasskey() ? (
        <form className="grid gap-2 px-4 py-3" onSubmit={form.handleSubmit((v) => add.mutate(v))}>
          <Field
            label="A passkey called"
            hint="It signs you in by itself. Unless you have codes as well, your password alone does no longer."
            faults={p?.at("name")}
          >
            {(id) => <input id={id} required placeholder="my phone" className={inputLook} {...form.register("name")} />}
          </Field>
          <Fault of={remove.error ?? (add.error && !p?.at("name").length ? add.error : undefined)} />
          <Button type="submit" className="justify-self-start" disabled={add.isPending}>
            Add a passkey
          </Button>
        </form>
      ) : null}
    </div>
  );
}

function SetUpForm() {
  const qc = useQueryClient();
  const begin = useMutation({ mutationFn: () => ask(api.POST("/session/second-factor")) });
  const form = useForm({ defaultValues: { code: "" } });
  const confirm = useMutation({
    mutationFn: (v: { code: string }) => ask(api.PUT("/session/second-factor", { body: { code: v.code.trim() } })),
  });
  const p = confirm.error instanceof Problem ? confirm.error : undefined;
  if (confirm.data) {
    return (
      <>
        <p>
          It is set. These recovery codes let you in without your authenticator, each once. They are not shown again:
          print them, or keep them where your passwords are.
        </p>
        <ul className="grid select-all grid-cols-2 gap-x-6 rounded bg-good-bg px-3 py-2 font-mono text-good-ink">
          {confirm.data.codes.map((c) => (
            <li key={c}>{c}</li>
          ))}
        </ul>
        <Button kind="main" className="justify-self-start" onClick={() => qc.invalidateQueries({ queryKey: ["me"] })}>
          I have kept them
        </Button>
      </>
    );
  }
  if (!begin.data) {
    return (
      <>
        <p className="text-muted">
          You sign in with your password alone. With an authenticator, whoever learns your password still does not get
          in.
        </p>
        <Fault of={begin.error} />
        <Button className="justify-self-start" disabled={begin.isPending} onClick={() => begin.mutate()}>
          Set up a second factor
        </Button>
      </>
    );
  }
  return (
    <form className="grid gap-3" onSubmit={form.handleSubmit((v) => confirm.mutate(v))}>
      <div className="flex flex-wrap items-start gap-4">
        <img src={begin.data.image} alt="The secret as a QR code" className="size-44 rounded bg-white p-1" />
        <div className="grid min-w-48 flex-1 gap-2">
          <p>Let your authenticator read this, or type the secret into it:</p>
          <code className="select-all break-all">{begin.data.secret}</code>
        </div>
      </div>
      <Field label="Code that it shows" faults={p?.at("code")}>
        {(id) => (
          <input
            id={id}
            autoComplete="one-time-code"
            required
            className={`${inputLook} max-w-40`}
            {...form.register("code")}
          />
        )}
      </Field>
      <Fault of={confirm.error && !p?.errors.length ? confirm.error : undefined} />
      <Button kind="main" type="submit" className="justify-self-start" disabled={confirm.isPending}>
        It is set up
      </Button>
    </form>
  );
}

function SetUp() {
  const qc = useQueryClient();
  const me = useQuery(asks.me).data;
  const form = useForm({ defaultValues: { password: "" } });
  const off = useMutation({
    mutationFn: (v: { password: string }) => ask(api.POST("/session/second-factor/removal", { body: v })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["me"] }),
  });
  const p = off.error instanceof Problem ? off.error : undefined;
  const left = me?.secondFactor.recoveryCodes ?? 0;
  return (
    <>
      <p>
        ● It is set. {left === 1 ? "One recovery code is" : `${left} recovery codes are`} left
        {left < 3 ? "; set it up anew for others" : ""}.
      </p>
      {me?.secondFactor.demanded ? (
        <p className="text-muted">It is demanded of your role here, and cannot be taken off.</p>
      ) : (
        <form className="grid gap-2" onSubmit={form.handleSubmit((v) => off.mutate(v))}>
          <Field label="To take it off, give your password" faults={p?.at("password")}>
            {(id) => (
              <input
                id={id}
                type="password"
                autoComplete="current-password"
                required
                className={`${inputLook} max-w-72`}
                {...form.register("password")}
              />
            )}
          </Field>
          <Fault of={off.error && !p?.errors.length ? off.error : undefined} />
          <Button type="submit" kind="danger" className="justify-self-start" disabled={off.isPending}>
            Take it off
          </Button>
        </form>
      )}
    </>
  );
}
