import { type OutputUnit, type Schema as Rules, Validator } from "@cfworker/json-schema";
import { type RJSFValidationError, toErrorSchema, type ValidatorType } from "@rjsf/utils";
import { at, partsOf, type Schema } from "./contract";

/** What is wrong with a value, in words that say what would be right. */
export type Fault = { path: string[]; message: string };

const summary = new Set(["properties", "items", "$ref", "additionalProperties", "allOf"]);

function wording(root: Schema, unit: OutputUnit): string {
  const place = unit.keywordLocation.slice(0, unit.keywordLocation.lastIndexOf("/"));
  const rule = at(root, place.slice(1));
  switch (unit.keyword) {
    case "required":
      return "is needed";
    case "pattern":
      return rule.description ? `has to be ${rule.description}` : `does not fit ${rule.pattern}`;
    case "enum":
      return `has to be one of ${rule.enum?.join(", ")}`;
    case "minimum":
      return `has to be ${rule.exclusiveMinimum === (true as unknown) ? "more than" : "at least"} ${rule.minimum}`;
    case "maximum":
      return `has to be at most ${rule.maximum}`;
    case "minLength":
    case "minItems":
      return "is needed";
    case "maxLength":
      return `has to have at most ${rule.maxLength} characters`;
    case "maxItems":
      return `has to have at most ${rule.maxItems}`;
    case "format":
      return "has to be a time, such as 2031-03-10T09:00";
    default:
      return `has to be ${rule.type === "integer" ? "a whole number" : `a ${rule.type}`}`;
  }
}

/** Everything that the contract finds wrong with a value. */
export function faults(root: Schema, value: unknown): Fault[] {
  const found = new Validator(root as Rules, "4", false).validate(value ?? {}).errors;
  return found
    .filter((e) => !summary.has(e.keyword))
    .map((e) => {
      const path = partsOf(e.instanceLocation);
      const missing = e.keyword === "required" ? /"([^"]+)"/.exec(e.error)?.[1] : undefined;
      return { path: missing ? [...path, missing] : path, message: wording(root, e) };
    });
}

const asError = (f: Fault): RJSFValidationError => ({
  property: `.${f.path.join(".")}`,
  message: f.message,
  stack: `${f.path.join(" ")} ${f.message}`,
});

/** The contract's bounds for forms. It reads the schema as it goes: no code is made of it, which the console's
 * pages may not run. */
export const check: ValidatorType = {
  validateFormData(value, schema) {
    const errors = faults(schema, value).map(asError);
    return { errors, errorSchema: toErrorSchema(errors) };
  },
  isValid: (schema, value, root) => faults({ ...schema, components: root.components }, value).length === 0,
  rawValidation: (schema, value) => ({ errors: faults(schema, value) as never[] }),
};
