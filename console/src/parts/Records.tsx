import { Stack, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { useAudit, useSession } from "../api/queries";
import { moment, none } from "./format";
import { Go } from "./Go";
import { List } from "./List";
import { Sheet } from "./Page";
import { Empty } from "./States";

type Record = Schemas["AuditRecord"];

const text = (value: unknown) => (typeof value === "string" ? value : JSON.stringify(value));

/** What changed, field by field: as it was and as it is. */
export function changesOf(r: Record): string[] {
  const names = [...new Set([...Object.keys(r.before ?? {}), ...Object.keys(r.after ?? {})])].sort();
  return names.map((name) => {
    const was = r.before?.[name];
    const is = r.after?.[name];
    if (was === undefined) return `${name}: ${text(is)}`;
    return is === undefined ? `${name}: ${text(was)}, no more` : `${name}: ${text(was)} → ${text(is)}`;
  });
}

/** Pages that show what a record is about. */
const pages = /^\/(runs|hosts|shots|plans)\/[^/]+$/;

/** What it was done to, which leads to its page if there is one. */
function about(path: string) {
  const short = path.replace(/([0-9a-f]{8})-[0-9a-f-]{27}/g, "$1");
  return pages.test(path) ? <Go to={path}>{short}</Go> : short;
}

/** As much of a change as is seen at once; what is new has many fields. */
const most = 3;

function Changes({ all }: { all: string[] }) {
  const shown = all.length > most + 1 ? all.slice(0, most) : all;
  if (all.length === 0) return none;
  return (
    <>
      {shown.map((c) => (
        <Text key={c} lineClamp="2" overflowWrap="anywhere" title={c}>
          {c}
        </Text>
      ))}
      {shown.length < all.length && (
        <Text title={all.slice(most).join("\n")}>and {all.length - shown.length} fields more</Text>
      )}
    </>
  );
}

/** Who did what, newest first. */
export function Records({ records, where = true }: { records: Record[]; where?: boolean }) {
  return (
    <List
      label="Who did what"
      rows={records}
      keyOf={(r) => String(r.id)}
      columns={[
        { name: "When", value: (r) => r.at, cell: (r) => moment(r.at) },
        {
          name: "Who",
          value: (r) => r.who,
          cell: (r) => (
            <Text title={r.from && `${r.role}, from ${r.from}`}>{r.who || <Text as="span">not signed in</Text>}</Text>
          ),
        },
        { name: "Did", value: (r) => r.did, cell: (r) => r.did },
        ...(where
          ? [
              {
                name: "To",
                cell: (r: Record) => (
                  <Text as="div" maxW="16rem" truncate title={r.about}>
                    {about(r.about)}
                  </Text>
                ),
              },
            ]
          : []),
        {
          name: "What changed",
          cell: (r) => (
            <Stack gap="0" whiteSpace="normal" minW="16rem" maxW="44rem" color="fg.muted">
              <Changes all={changesOf(r)} />
            </Stack>
          ),
        },
      ]}
    />
  );
}

/** The last that was done to one thing, on its page; for those who may know. */
export function DoneTo({ about }: { about: string }) {
  const role = useSession().data?.role;
  const may = role === "operator" || role === "admin";
  const query = useAudit({ about, limit: 8 }, may);
  if (!may || !query.data?.length) return null; // it is beside what the page is for: nothing is waited for
  return (
    <Sheet title="Who did what" aside={<Go to={`/audit?about=${encodeURIComponent(about)}`}>All of it</Go>}>
      <Records records={query.data} where={false} />
    </Sheet>
  );
}

/** Nothing was found. */
export const NoRecords = () => (
  <Empty title="Nothing was done that fits">Everything that changes something or spends is written down here.</Empty>
);
