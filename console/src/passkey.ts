import { api, ask, type Schemas } from "./api";

// What browsers offer for passkeys (Web Authentication, level 3), as far as it is used
// here: options and answers go over the wire in their JSON forms.

type Ceremony = Schemas["PasskeyCeremony"];
type Keys = {
  parseCreationOptionsFromJSON?: (o: unknown) => PublicKeyCredentialCreationOptions;
  parseRequestOptionsFromJSON?: (o: unknown) => PublicKeyCredentialRequestOptions;
};

const keys = (): Keys | undefined => (window as { PublicKeyCredential?: Keys }).PublicKeyCredential;

/** canPasskey tells whether this browser can do it, on a page like this one. */
export function canPasskey(): boolean {
  return !!(keys()?.parseCreationOptionsFromJSON && keys()?.parseRequestOptionsFromJSON && window.isSecureContext);
}

/** answered is what the browser gave; that somebody thought better of it is told in a sentence. */
async function answered(p: Promise<Credential | null>): Promise<Record<string, unknown>> {
  try {
    const c = (await p) as { toJSON?: () => Record<string, unknown> } | null;
    if (c?.toJSON) return c.toJSON();
  } catch (e) {
    if (!(e instanceof DOMException)) throw e;
  }
  throw new Error("The browser gave no passkey: it was stopped, took too long, or there is none for this site.");
}

/** addPasskey has the browser make one, and keeps it under a name. */
export async function addPasskey(name: string): Promise<void> {
  const c: Ceremony = await ask(api.POST("/session/passkeys/begin"));
  const publicKey = keys()?.parseCreationOptionsFromJSON?.(c.options);
  const response = await answered(navigator.credentials.create({ publicKey }));
  await ask(api.POST("/session/passkeys", { body: { ticket: c.ticket, name, response } }));
}

/** signInByPasskey has the browser show one. */
export async function signInByPasskey(): Promise<void> {
  const c: Ceremony = await ask(api.POST("/session/passkey/begin"));
  const publicKey = keys()?.parseRequestOptionsFromJSON?.(c.options);
  const response = await answered(navigator.credentials.get({ publicKey }));
  await ask(api.POST("/session/passkey", { body: { ticket: c.ticket, response } }));
}
