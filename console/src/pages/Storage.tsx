import { Button, HStack, Input, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { answered, client, Problem, type Schemas } from "../api/client";
import { useSession, useStorage } from "../api/queries";
import { bytes, moment, none } from "../parts/format";
import { List } from "../parts/List";
import { Page, Sheet } from "../parts/Page";
import { Shown } from "../parts/States";

type Kept = Schemas["Kept"];

/** For how long a kind is kept, for an admin to change. */
function Days({ kept, admin }: { kept: Kept; admin: boolean }) {
  const cache = useQueryClient();
  const [days, setDays] = useState(String(kept.days));
  const keep = useMutation({
    mutationFn: () =>
      answered(
        client.PUT("/storage/{kind}", {
          params: { path: { kind: kept.name } },
          body: { days: Math.round(Number(days)) },
        }),
      ),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["storage"] }),
  });
  if (!admin) return <>{kept.days} days</>;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    keep.mutate();
  };
  return (
    <form onSubmit={submit}>
      <HStack gap="2">
        <Input
          size="xs"
          type="number"
          w="5rem"
          aria-label={`Days that ${kept.name} are kept`}
          min={kept.least_days}
          max={3650}
          value={days}
          onChange={(e) => setDays(e.target.value)}
        />
        <Text color="fg.muted">days</Text>
        {days !== String(kept.days) && (
          <Button size="xs" variant="outline" type="submit" loading={keep.isPending}>
            Keep so long
          </Button>
        )}
      </HStack>
      {keep.error && (
        <Text role="alert" color="failed" fontSize="xs" whiteSpace="normal" maxW="16rem">
          {keep.error instanceof Problem ? keep.error.document.detail : "The service did not take that."}
        </Text>
      )}
    </form>
  );
}

/** What grows, and how long it is kept. */
export function Storage() {
  const all = useStorage();
  const admin = useSession().data?.role === "admin";
  return (
    <Page
      title="Storage"
      lead="What grows is deleted when it is older than this. Runs, tries, charges, times and pictures of done frames are kept."
    >
      <Shown query={all}>
        {(kinds) => (
          <Sheet>
            <List
              label="What is kept"
              rows={kinds}
              keyOf={(k) => k.name}
              columns={[
                { name: "Kind", cell: (k) => k.name },
                { name: "Kept for", cell: (k) => <Days key={k.days} kept={k} admin={admin} /> },
                { name: "Number", cell: (k) => k.rows?.toLocaleString("en") ?? none, right: true },
                { name: "On the disk", cell: (k) => (k.bytes === undefined ? none : bytes(k.bytes)), right: true },
                {
                  name: "Deleted so far",
                  cell: (k) => (k.pruned ? `${k.pruned.toLocaleString("en")}, last ${moment(k.pruned_at)}` : none),
                },
                {
                  name: "What it is",
                  cell: (k) => (
                    <Text whiteSpace="normal" minW="16rem" color="fg.muted">
                      {k.what}
                    </Text>
                  ),
                },
              ]}
            />
          </Sheet>
        )}
      </Shown>
    </Page>
  );
}
