import { Box, Button } from "@chakra-ui/react";
import type { UiSchema } from "@rjsf/utils";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { type Kind, type KindName, kinds, nameOf } from "../forms/kinds";
import { useKnown } from "../forms/known";
import { SpecForm } from "../forms/SpecForm";
import { Confirmed } from "../parts/Confirmed";
import { Page, Sheet } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Empty, Shown } from "../parts/States";

/** How the form of a kind looks; the name of what is there already stays. */
function uiOf(kind: Kind, known: UiSchema, there: boolean): UiSchema {
  const ui: UiSchema = { "ui:first": kind.first, ...known, ...kind.ui };
  const [outer, inner] = kind.named;
  if (!there || !outer) return ui;
  const stays = { "ui:disabled": true };
  return { ...ui, [outer]: inner ? { ...ui[outer], [inner]: stays } : stays };
}

function Form({ of, name, stored, like }: { of: KindName; name?: string; stored: object; like?: string }) {
  const kind: Kind = kinds[of];
  const go = useNavigate();
  const cache = useQueryClient();
  const known = useKnown();
  const ui = uiOf(kind, known, name !== undefined);
  const save = async (value: Record<string, unknown>) => {
    const called = nameOf(kind, value);
    await kind.put(called, value);
    await cache.invalidateQueries({ queryKey: [kind.list] });
    go(kind.paged ? `${kind.home}/${called}` : kind.home);
  };
  const { remove } = kind;
  const gone = () => {
    cache.invalidateQueries({ queryKey: [kind.list] });
    go(kind.home);
  };
  return (
    <Sheet>
      <SpecForm
        schema={kind.schema}
        draft={name ? `${of}/${name}` : like ? `${of} like ${like}` : `new ${of}`}
        stored={stored as Record<string, unknown>}
        ui={ui}
        secrets={kind.secrets}
        save={name ? `Save ${name}` : `Make the ${kind.one}`}
        onSave={save}
        beside={
          <>
            <Button variant="ghost" onClick={() => go(-1)}>
              Back
            </Button>
            {name && remove && (
              <Box ms="auto">
                <Confirmed
                  text="Delete"
                  question={`Delete ${name}?`}
                  yes="Yes, delete it"
                  does={() => remove(name).then(gone)}
                />
              </Box>
            )}
          </>
        }
      />
    </Sheet>
  );
}

/** Makes one of a kind, like another one if that is named, or changes the one that is named. */
export function Edit({ of }: { of: KindName }) {
  const { name } = useParams();
  const [params] = useSearchParams();
  const like = name ? undefined : (params.get("like") ?? undefined);
  const kind: Kind = kinds[of];
  const mayWrite = useMayWrite();
  const from = name ?? like;
  const stored = useQuery({
    queryKey: [kind.list, "form", from ?? ""],
    queryFn: async () => (from ? ((await kind.get(from)) ?? null) : kind.fresh),
    staleTime: Number.POSITIVE_INFINITY, // what is being typed over does not change below the hand
    gcTime: 0,
  });
  return (
    <Page title={name ? `Change ${name}` : `New ${kind.one}`} lead={kind.lead}>
      {mayWrite ? (
        <Shown query={stored}>
          {(value) =>
            value ? (
              <Form of={of} name={name} like={like} stored={like ? { ...value, name: undefined } : value} />
            ) : (
              <Empty title={`There is no ${kind.one} ${from}`} />
            )
          }
        </Shown>
      ) : (
        <Empty title="You may look, not change">An operator's or an admin's token may make and change this.</Empty>
      )}
    </Page>
  );
}
