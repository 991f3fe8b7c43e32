import { Box, Button, Checkbox, Flex, Grid, IconButton, Input, Stack, Text, Textarea } from "@chakra-ui/react";
import { getDefaultRegistry } from "@rjsf/core";
import {
  ADDITIONAL_PROPERTY_FLAG,
  type ArrayFieldItemTemplateProps,
  type ArrayFieldTemplateProps,
  type BaseInputTemplateProps,
  canExpand,
  type ErrorSchema,
  type FieldProps,
  type FieldTemplateProps,
  getUiOptions,
  type ObjectFieldTemplateProps,
  type Registry,
  type WidgetProps,
  type WrapIfAdditionalTemplateProps,
} from "@rjsf/utils";
import { LuPlus, LuX } from "react-icons/lu";
import { localInput } from "../parts/format";
import { labelOf, type Schema } from "./contract";

/** What a form knows beside its fields: which were left or changed by hand, so that nobody is told of what he
 * has not come to yet. */
export type Context = {
  touched: string[] | "all"; // ids; a plain list, so that the package sees that it changed
  bounds: string[]; // descriptions that say what is allowed, not what is meant
};

const touched = (id: string, registry: Registry) => {
  const { touched } = registry.formContext as Context;
  return touched === "all" || touched.includes(id);
};

const box = { borderColor: "line", bg: "bg" } as const;
const whole = { base: "auto", md: "1 / -1" } as const;

const titled = (p: { schema: { title?: string }; label?: string; name?: string }) =>
  p.schema.title ?? labelOf(p.label || p.name || "");

/** Where it is said what a field means, or what is wrong with it. */
const saidOf = (id: string) => `${id}-said`;

/** What tells a reader of the screen of a field. */
const told = (p: { id: string; rawErrors?: string[]; registry: Registry }) => ({
  "aria-describedby": saidOf(p.id),
  "aria-invalid": (!!p.rawErrors?.length && touched(p.id, p.registry)) || undefined,
});

/** A field: its label above, what it means and what is wrong with it below. */
export function FieldTemplate(p: FieldTemplateProps) {
  if (p.hidden) return null;
  const type = p.schema.type;
  const words = isWords(p.schema, p.registry);
  const wide = getUiOptions(p.uiSchema).wide;
  const additional = ADDITIONAL_PROPERTY_FLAG in p.schema;
  const context = p.registry.formContext as Context;
  const wrong = touched(p.id, p.registry) ? p.rawErrors : undefined;
  if (type === "object" || (type === "array" && !words))
    return (
      <Box gridColumn={whole}>
        {p.children}
        <Wrong faults={wrong} />
      </Box>
    );
  const field = (
    <Stack gap="1.5">
      {!additional && type !== "boolean" && (
        <Flex asChild gap="2" align="baseline" fontSize="sm">
          <label htmlFor={p.id}>
            {titled(p)}
            {p.required && (
              <Text as="span" color="fg.muted" fontSize="xs">
                needed
              </Text>
            )}
          </label>
        </Flex>
      )}
      {p.children}
      <Stack id={saidOf(p.id)} gap="1">
        <Wrong faults={wrong} />
        {!wrong?.length && !additional && (
          <Meant>
            {[
              !context.bounds.includes(p.rawDescription ?? "") && p.rawDescription,
              words && !getUiOptions(p.uiSchema).known && "one in a line",
            ]
              .filter(Boolean)
              .join("; ")}
          </Meant>
        )}
      </Stack>
    </Stack>
  );
  return (
    <Box gridColumn={wide || additional ? whole : undefined} minW="0">
      {additional ? <WrapIfAdditional {...p}>{field}</WrapIfAdditional> : field}
    </Box>
  );
}

const Meant = ({ children }: { children: string }) =>
  children && (
    <Text fontSize="xs" color="fg.muted" lineHeight="1.35">
      {children}
    </Text>
  );

const Wrong = ({ faults }: { faults?: string[] }) =>
  faults?.map((f) => (
    <Text key={f} role="alert" fontSize="sm" color="failed">
      {f}
    </Text>
  ));

/** A list of words is typed as lines. */
const isWords = (schema: Schema, registry: Registry) =>
  schema.type === "array" && registry.schemaUtils.retrieveSchema((schema.items ?? {}) as Schema).type === "string";

/** An entry of a map: its name, its value, and a way to be rid of it. */
function WrapIfAdditional(p: WrapIfAdditionalTemplateProps) {
  return (
    <Flex gap="2" align="start" maxW="44rem">
      <Input
        {...box}
        maxW="14rem"
        aria-label={`Name of ${p.label}`}
        defaultValue={p.label}
        onBlur={p.onKeyRenameBlur}
        fontFamily="mono"
      />
      <Box flex="1">{p.children}</Box>
      <Remove what={p.label} onClick={p.onRemoveProperty} />
    </Flex>
  );
}

const Remove = ({ what, onClick }: { what: string; onClick: () => void }) => (
  <IconButton size="sm" variant="ghost" color="fg.muted" aria-label={`Remove ${what}`} onClick={onClick}>
    <LuX />
  </IconButton>
);

const Add = ({ to, onClick }: { to: string; onClick: () => void }) => (
  <Button
    size="xs"
    variant="outline"
    alignSelf="flex-start"
    aria-label={`Add to ${to.toLowerCase()}`}
    onClick={onClick}
  >
    <LuPlus /> Add
  </Button>
);

/** What stands above a group: that of a list's entry is its number. */
const heading = (p: ObjectFieldTemplateProps) => p.schema.title ?? (/-(\d+)$/.exec(p.title)?.[1] || labelOf(p.title));

const columns = { base: "1fr", md: "repeat(auto-fill, minmax(15rem, 1fr))" } as const;

/** A field's name without its unit, among others. */
function shortly(p: ObjectFieldTemplateProps, name: string) {
  const title = (p.schema.properties?.[name] as Schema | undefined)?.title ?? labelOf(name);
  const said = title.split(",")[0] ?? title;
  return /^[A-Z]{2}/.test(said) ? said : said.charAt(0).toLowerCase() + said.slice(1);
}

/** Groups take a row each, so they come after what stands beside each other. */
function groupsLast(p: ObjectFieldTemplateProps) {
  const group = (name: string) => {
    const schema = p.registry.schemaUtils.retrieveSchema((p.schema.properties?.[name] ?? {}) as Schema);
    return schema.type === "object" || (schema.type === "array" && !isWords(schema, p.registry));
  };
  return [...p.properties.filter((x) => !group(x.name)), ...p.properties.filter((x) => group(x.name))];
}

/** Fields beside each other; those that are seldom needed fold away. */
export function ObjectFieldTemplate(p: ObjectFieldTemplateProps) {
  const outermost = p.fieldPathId.path.length === 0;
  const first = getUiOptions(p.uiSchema).first as string[] | undefined;
  const needed = (name: string) =>
    !first || first.includes(name) || (Array.isArray(p.schema.required) && p.schema.required.includes(name));
  const ordered = groupsLast(p);
  const shown = ordered.filter((x) => needed(x.name));
  const rest = ordered.filter((x) => !needed(x.name) && !x.hidden);
  const said = rest.filter((x) => p.formData?.[x.name] !== undefined).length;
  const title = heading(p);
  const fields = (
    <Stack gap="5">
      {shown.length > 0 && (
        <Grid templateColumns={columns} gap="5" alignItems="start">
          {shown.map((x) => x.content)}
        </Grid>
      )}
      {canExpand(p.schema, p.uiSchema, p.formData) && <Add to={title} onClick={p.onAddProperty} />}
      {rest.length > 0 && (
        <Box asChild>
          <details open={said > 0 || undefined}>
            <Box asChild cursor="pointer" color="brass.fg" py="1">
              <summary>
                More{said > 0 && `, ${said} said`}: {rest.map((x) => shortly(p, x.name)).join(", ")}
              </summary>
            </Box>
            <Grid templateColumns={columns} gap="5" alignItems="start" mt="4">
              {rest.map((x) => x.content)}
            </Grid>
          </details>
        </Box>
      )}
    </Stack>
  );
  if (outermost) return fields;
  return (
    <Group title={getUiOptions(p.uiSchema).bare ? "" : title} meant={p.schema.description}>
      {fields}
    </Group>
  );
}

/** Fields that belong together. */
function Group({ title, meant, children }: { title: string; meant?: string; children: React.ReactNode }) {
  return (
    <Box asChild borderWidth="0" borderLeftWidth="2px" borderColor="line" ps="4" py="1" m="0" minW="0">
      <fieldset>
        {title && (
          <Text asChild fontWeight="medium" mb={meant ? "0" : "3"}>
            <legend>{title}</legend>
          </Text>
        )}
        {meant && (
          <Box mb="3">
            <Meant>{meant}</Meant>
          </Box>
        )}
        {children}
      </fieldset>
    </Box>
  );
}

export function ArrayFieldTemplate(p: ArrayFieldTemplateProps) {
  const title = p.schema.title ?? labelOf(p.title);
  return (
    <Group title={title} meant={p.schema.description}>
      <Stack gap="4">
        {p.items}
        {p.canAdd && <Add to={title} onClick={p.onAddClick} />}
      </Stack>
    </Group>
  );
}

export function ArrayFieldItemTemplate(p: ArrayFieldItemTemplateProps) {
  return (
    <Flex gap="2" align="start" borderBottomWidth="1px" borderColor="line" pb="4">
      <Box flex="1" minW="0">
        {p.children}
      </Box>
      <Remove what={`${p.index + 1}`} onClick={p.buttonsProps.onRemoveItem} />
    </Flex>
  );
}

const Rows = getDefaultRegistry().fields.ArrayField;

/** A list: of words as lines of text, of other things as the package has it. */
export function ArrayField(p: FieldProps) {
  const known = getUiOptions(p.uiSchema).known as string[] | undefined;
  if (known) return <Checks {...p} known={known} />;
  return isWords(p.schema, p.registry) ? <Words {...p} /> : <Rows {...p} />;
}

/** Some of a few words, each of which is known. */
function Checks(p: FieldProps & { known: string[] }) {
  const chosen = (p.formData ?? []) as string[];
  return (
    <Flex gap="2" columnGap="5" wrap="wrap" role="group" aria-label={titled(p)} id={p.fieldPathId.$id}>
      {p.known.map((name) => (
        <Checkbox.Root
          key={name}
          size="sm"
          checked={chosen.includes(name)}
          onCheckedChange={(e) =>
            p.onChange(
              p.known.filter((x) => (x === name ? e.checked === true : chosen.includes(x))),
              p.fieldPathId.path,
            )
          }
        >
          <Checkbox.HiddenInput />
          <Checkbox.Control borderColor="fg.muted" />
          <Checkbox.Label fontWeight="normal">{name}</Checkbox.Label>
        </Checkbox.Root>
      ))}
    </Flex>
  );
}

/** What is typed stays as it is while it is being typed. */
function Words(p: FieldProps) {
  const items = p.schema.items as { example?: string } | undefined;
  const example = (p.schema.example as string[] | undefined) ?? (items?.example ? [items.example] : []);
  const text = ((p.formData ?? []) as string[]).join("\n");
  const wrong = Object.values((p.errorSchema ?? {}) as Record<string, ErrorSchema>)
    .flatMap((e) => (Array.isArray(e) ? e : (e.__errors ?? [])))
    .filter((e, i, all) => all.indexOf(e) === i);
  return (
    <>
      <Textarea
        {...box}
        id={p.fieldPathId.$id}
        defaultValue={text}
        rows={Math.max(1, (p.formData ?? []).length)}
        autoresize
        placeholder={example.join("\n")}
        fontFamily="mono"
        fontSize="sm"
        onChange={(e) => {
          const lines = e.target.value.split("\n").map((l) => l.trim());
          const said = lines.filter((l) => l !== "");
          p.onChange(said.length ? said : undefined, p.fieldPathId.path);
        }}
        onBlur={(e) => p.onBlur(p.fieldPathId.$id, e.target.value)}
      />
      {touched(p.fieldPathId.$id, p.registry) && <Wrong faults={wrong} />}
    </>
  );
}

/** A text or a number, with what others have said before to choose from. */
export function BaseInputTemplate(p: BaseInputTemplateProps) {
  const type = p.schema.type;
  const number = type === "number" || type === "integer";
  const suggest = (p.options.suggest as string[] | undefined) ?? [];
  const list = suggest.length > 0 ? `${p.id}-known` : undefined;
  const example = p.options.example ?? p.schema.example ?? p.schema.default;
  return (
    <>
      <Input
        {...box}
        id={p.id}
        {...told(p)}
        type={p.type ?? "text"}
        inputMode={number ? "decimal" : undefined}
        list={list}
        value={p.value ?? ""}
        placeholder={example === undefined ? undefined : String(example)}
        autoComplete={p.type === "password" ? "new-password" : "off"}
        disabled={p.disabled || p.readonly}
        onChange={(e) => p.onChange(e.target.value === "" ? p.options.emptyValue : e.target.value)}
        onBlur={(e) => p.onBlur(p.id, e.target.value)}
        onFocus={(e) => p.onFocus(p.id, e.target.value)}
      />
      {list && (
        <datalist id={list}>
          {suggest.map((s) => (
            <option key={s} value={s} />
          ))}
        </datalist>
      )}
    </>
  );
}

export function SelectWidget(p: WidgetProps) {
  return (
    <Box asChild {...box} borderWidth="1px" rounded="md" px="3" h="10" w="full">
      <select
        id={p.id}
        {...told(p)}
        value={p.value ?? ""}
        onChange={(e) => p.onChange(e.target.value === "" ? undefined : e.target.value)}
        onBlur={(e) => p.onBlur(p.id, e.target.value)}
      >
        {(!p.required || p.value === undefined) && <option value="">{p.required ? "choose…" : "as usual"}</option>}
        {(p.options.enumOptions ?? []).map((o) => (
          <option key={String(o.value)} value={String(o.value)}>
            {o.label}
          </option>
        ))}
      </select>
    </Box>
  );
}

export function CheckboxWidget(p: WidgetProps) {
  const unsaid = p.value === undefined ? p.schema.default === true : p.value === true;
  return (
    <Checkbox.Root
      checked={unsaid}
      onCheckedChange={(e) => p.onChange(e.checked === true)}
      ids={{ hiddenInput: p.id }}
      pt={{ md: "8" }}
    >
      <Checkbox.HiddenInput />
      <Checkbox.Control borderColor="fg.muted" />
      <Checkbox.Label fontWeight="normal">{p.schema.title ?? labelOf(p.label)}</Checkbox.Label>
    </Checkbox.Root>
  );
}

/** A time in the viewer's zone; the service is told it in UTC. */
export function DateTimeWidget(p: WidgetProps) {
  return (
    <Input
      {...box}
      id={p.id}
      {...told(p)}
      type="datetime-local"
      value={p.value ? localInput(new Date(p.value)) : ""}
      onChange={(e) => p.onChange(e.target.value ? new Date(e.target.value).toISOString() : undefined)}
      onBlur={(e) => p.onBlur(p.id, e.target.value)}
    />
  );
}
