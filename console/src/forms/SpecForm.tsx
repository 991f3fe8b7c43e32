import { Box, Button, Flex, Stack, Text } from "@chakra-ui/react";
import Form, { type IChangeEvent } from "@rjsf/core";
import type { ErrorSchema, UiSchema } from "@rjsf/utils";
import { type ReactNode, useMemo, useState } from "react";
import { Problem } from "../api/client";
import { moment } from "../parts/format";
import { Failed, Shown } from "../parts/States";
import { check, faults } from "./check";
import { boundsOf, schemaOf, useContract } from "./contract";
import { useDraft } from "./draft";
import * as templates from "./templates";

type Json = Record<string, unknown>;

/** What the service refused, field by field, as the form shows it. */
export function refused(error: unknown): ErrorSchema | undefined {
  if (!(error instanceof Problem) || !error.document.errors?.length) return undefined;
  const out: Json = {};
  for (const e of error.document.errors) {
    let here = out;
    for (const part of e.field.split("/").filter(Boolean)) {
      here[part] = here[part] ?? {};
      here = here[part] as Json;
    }
    here.__errors = [...((here.__errors as string[]) ?? []), e.detail];
  }
  return out as ErrorSchema;
}

/** Without what is empty: a field that was cleared is not said. */
export function said(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(said);
  if (value === null || typeof value !== "object") return value;
  const left = Object.entries(value)
    .map(([name, v]) => [name, said(v)] as const)
    .filter(([, v]) => v !== undefined && !(v && typeof v === "object" && Object.keys(v).length === 0));
  return Object.fromEntries(left);
}

const own = {
  FieldTemplate: templates.FieldTemplate,
  ObjectFieldTemplate: templates.ObjectFieldTemplate,
  ArrayFieldTemplate: templates.ArrayFieldTemplate,
  ArrayFieldItemTemplate: templates.ArrayFieldItemTemplate,
  BaseInputTemplate: templates.BaseInputTemplate,
  FieldErrorTemplate: () => null, // FieldTemplate says what is wrong
};

const widgets = {
  SelectWidget: templates.SelectWidget,
  CheckboxWidget: templates.CheckboxWidget,
  DateTimeWidget: templates.DateTimeWidget,
};

/** A form for a schema of the contract: it checks as one types by the contract's own bounds, and keeps what was
 * typed until it is saved. */
export function SpecForm(p: {
  schema: string;
  draft: string; // by what name what is typed is kept
  stored: Json;
  ui?: UiSchema;
  secrets?: string[];
  save: string;
  onSave: (value: Json) => Promise<unknown>;
  beside?: ReactNode; // what else can be done
  waiting?: ReactNode; // what is said while it is being saved
}) {
  const contract = useContract();
  return <Shown query={contract}>{(c) => <Fields {...p} root={schemaOf(c, p.schema)} />}</Shown>;
}

const noSecrets: string[] = [];

function Fields(p: Parameters<typeof SpecForm>[0] & { root: ReturnType<typeof schemaOf> }) {
  const draft = useDraft<Json>(p.draft, p.stored, p.secrets ?? noSecrets);
  const [touched, setTouched] = useState<string[]>([]);
  const [all, setAll] = useState(false);
  const [failure, setFailure] = useState<unknown>();
  const [saving, setSaving] = useState(false);
  const bounds = useMemo(() => boundsOf(p.root), [p.root]);
  const context = useMemo<templates.Context>(
    () => ({ touched: all ? "all" : touched, bounds }),
    [all, touched, bounds],
  );
  const touch = (id?: string) => id && !touched.includes(id) && setTouched([...touched, id]);
  const wrong = faults(p.root, said(draft.value));
  const submit = async () => {
    setAll(true);
    if (wrong.length > 0) return;
    setSaving(true);
    setFailure(undefined);
    try {
      await p.onSave(said(draft.value) as Json);
      draft.drop();
    } catch (error) {
      setFailure(error);
    } finally {
      setSaving(false);
    }
  };
  return (
    <Stack gap="5">
      {draft.typed !== undefined && (
        <Flex gap="3" align="center" borderLeftWidth="3px" borderColor="brass.solid" ps="4">
          <Text>What you typed {moment(new Date(draft.typed))} was kept here; it is not saved yet.</Text>
          <Button size="xs" variant="outline" onClick={draft.drop}>
            Begin afresh
          </Button>
        </Flex>
      )}
      <Form
        key={draft.typed}
        schema={p.root}
        uiSchema={p.ui}
        validator={check}
        formData={draft.value}
        formContext={context}
        templates={own}
        widgets={widgets}
        fields={{ ArrayField: templates.ArrayField }}
        liveValidate="onChange"
        extraErrors={refused(failure)}
        showErrorList={false}
        noHtml5Validate
        experimental_defaultFormStateBehavior={{ emptyObjectFields: "skipDefaults" }}
        onChange={(e: IChangeEvent, id?: string) => {
          setFailure(undefined);
          touch(id);
          draft.write(e.formData as Json);
        }}
        onBlur={touch}
        tagName="div"
      >
        <Stack gap="3" mt="6">
          {all && wrong.length > 0 && (
            <Text role="alert" color="failed">
              {wrong.length === 1 ? "One thing is" : `${wrong.length} things are`} still to be put right:{" "}
              {wrong.map((f) => `${f.path.join(" ")} ${f.message}`).join("; ")}
            </Text>
          )}
          {saving && p.waiting}
          {failure !== undefined && <Failed error={failure} />}
          {/* The field in hand is not left first: what is wrong with it would come up, and move the button away below
          the pointer. */}
          <Flex gap="3" align="center" wrap="wrap" onMouseDown={(e) => e.preventDefault()}>
            <Button loading={saving} onClick={submit}>
              {p.save}
            </Button>
            {p.beside}
          </Flex>
        </Stack>
      </Form>
      <Box srOnly role="status">
        {wrong.length === 0 ? "Nothing is wrong with what was typed" : ""}
      </Box>
    </Stack>
  );
}
