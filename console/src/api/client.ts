import createClient from "openapi-fetch";
import { patientFetch } from "./computing";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];

/** What the service answered when it could not do what was asked (RFC 9457). */
export class Problem extends Error {
  constructor(readonly document: Schemas["Problem"]) {
    super(document.detail || document.title);
  }
}

/** Why the console did not go on with something, though the service answered. */
export class Refusal extends Error {}

export const client = createClient<paths>({ baseUrl: "/api/v1", fetch: (request) => patientFetch(request) });

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Returns the data of an answer, or throws what went wrong. That something is still being
 * computed is no answer: the request has been sent again until there was one. */
export async function answered<T>(call: Promise<Answer<T>>): Promise<Exclude<T, Schemas["Computation"]>> {
  const { data, error, response } = await call;
  if (response.ok) return data as Exclude<T, Schemas["Computation"]>;
  const document = error as Schemas["Problem"] | undefined;
  throw new Problem(
    document?.status ? document : { type: "about:blank", title: response.statusText, status: response.status },
  );
}

/** A key with which a write that is sent twice does nothing the second time. */
export const newKey = () => crypto.randomUUID();
