import type { RJSFSchema } from "@rjsf/utils";
import { useQuery } from "@tanstack/react-query";

/** A schema of the service's contract (OpenAPI 3.0), as a form is made from it. */
export type Schema = RJSFSchema;

export type Contract = { components: { schemas: Record<string, Schema> } };

/** The contract of the service that is asked, by whose own bounds a form checks what is typed. */
export const useContract = () =>
  useQuery({
    queryKey: ["contract"],
    queryFn: async (): Promise<Contract> => {
      const response = await fetch("/api/openapi.json");
      if (!response.ok) throw new Error(`The service's contract cannot be read: ${response.status}`);
      return response.json();
    },
    staleTime: Number.POSITIVE_INFINITY,
  });

/** One of the contract's schemas, with those that it refers to. */
export function schemaOf(contract: Contract, name: string): Schema {
  const found = contract.components.schemas[name];
  if (!found) throw new Error(`The contract has no ${name}`);
  return { ...found, components: contract.components };
}

/** Descriptions in the contract that say how a kind of value has to look: they are told where one does not. */
export function boundsOf(root: Schema): string[] {
  const all = Object.values((root.components as Contract["components"]).schemas);
  return all.filter((s) => s.pattern && s.description).map((s) => s.description as string);
}

/** The part of a schema at a JSON pointer; references on the way are followed. */
export function at(root: Schema, pointer: string): Schema {
  let here: Schema = root;
  for (const part of partsOf(pointer)) {
    here = part === "$ref" ? at(root, here.$ref?.slice(1) ?? "") : (here[part] as Schema);
    if (here === undefined) return {};
  }
  return here;
}

/** The names that a JSON pointer goes by (RFC 6901). */
export const partsOf = (pointer: string) =>
  pointer
    .split("/")
    .slice(1)
    .map((part) => decodeURIComponent(part).replaceAll("~1", "/").replaceAll("~0", "~"));

/** What units the endings of the contract's names say. */
const units: Record<string, string> = {
  gb: "GB",
  s: "s",
  h: "an hour",
  mhz: "MHz",
  watts: "W",
  mb_s: "MB/s",
  kwh: "a kWh",
};

/** A field's label, from its name where the contract has no title for it: memory_gb is "Memory, GB". */
export function labelOf(name: string): string {
  const words = name.split("_");
  const two = words.slice(-2).join("_");
  const ending = words.length > 2 && units[two] ? two : (words.at(-1) ?? "");
  const unit = words.length > 1 ? units[ending] : undefined;
  const said = (unit ? name.slice(0, -ending.length - 1) : name).replaceAll("_", " ");
  return said.charAt(0).toUpperCase() + said.slice(1) + (unit ? (/^an? /.test(unit) ? ` ${unit}` : `, ${unit}`) : "");
}
