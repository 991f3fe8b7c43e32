import { Box, Button, Checkbox, Code, Flex, HStack, Input, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { answered, client, type Schemas } from "../api/client";
import { useNotices, useReceivers, useSession } from "../api/queries";
import { moment, none } from "../parts/format";
import { Go } from "../parts/Go";
import { Labelled } from "../parts/Labelled";
import { List } from "../parts/List";
import { Page, Sheet, State } from "../parts/Page";
import { Empty, Failed, Shown } from "../parts/States";

type Receiver = Schemas["Receiver"];
type Subject = Schemas["NoticeSubject"];

/** What there is to tell, in the order in which it is offered. */
export const subjects: Record<Subject, string> = {
  done: "a run ended",
  behind: "a run falls behind",
  proposal: "a new schedule waits for you",
  proofs: "proof frames wait for you",
  stranded: "nobody is left for frames",
  "host-lost": "a host is lost",
  "backlog-done": "a backlog shot ended",
};
const all = Object.keys(subjects) as Subject[];

const told = (r: Receiver) => (r.subjects.length === all.length ? "everything" : r.subjects.join(", "));

/** When a receiver is told nothing. */
export function quietText(hours: Schemas["Hours"][]): string {
  return hours.map((h) => [h.days, h.from && `${h.from}–${h.to}`].filter(Boolean).join(" ")).join(", ") || none;
}

/** Tries a receiver, and says whether it was told. */
function Try({ name }: { name: string }) {
  const cache = useQueryClient();
  const test = useMutation({
    mutationFn: () => answered(client.POST("/receivers/{receiver}/test", { params: { path: { receiver: name } } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["receivers"] }),
  });
  const remove = useMutation({
    mutationFn: () => answered(client.DELETE("/receivers/{receiver}", { params: { path: { receiver: name } } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["receivers"] }),
  });
  return (
    <Stack gap="1" align="flex-start">
      <HStack gap="2">
        <Button size="xs" variant="outline" loading={test.isPending} onClick={() => test.mutate()}>
          Send a test
        </Button>
        <Button size="xs" variant="ghost" color="fg.muted" loading={remove.isPending} onClick={() => remove.mutate()}>
          Remove
        </Button>
      </HStack>
      <Text
        role="status"
        _empty={{ display: "none" }}
        fontSize="xs"
        color={test.data?.told === false ? "failed" : "fg.muted"}
        whiteSpace="normal"
      >
        {test.data && (test.data.told ? "It was told." : test.data.fault)}
        {(test.error || remove.error) && "The service did not take that."}
      </Text>
    </Stack>
  );
}

function Receivers({ receivers, admin }: { receivers: Receiver[]; admin: boolean }) {
  return (
    <Sheet title="Who is told">
      <List
        label="Receivers"
        rows={receivers}
        keyOf={(r) => r.name}
        columns={[
          { name: "Receiver", cell: (r) => r.name },
          {
            name: "Address",
            cell: (r) => (
              <Text maxW="20rem" truncate title={r.address}>
                {r.address}
              </Text>
            ),
          },
          {
            name: "Told of",
            cell: (r) => (
              <Text whiteSpace="normal" maxW="18rem">
                {told(r)}
              </Text>
            ),
          },
          { name: "Quiet", cell: (r) => quietText(r.quiet) },
          {
            name: "State",
            cell: (r) =>
              r.fault ? (
                <Text color="failed" whiteSpace="normal" maxW="18rem">
                  {r.fault}
                  {r.next_at && `; tried again ${moment(r.next_at)}`}
                </Text>
              ) : (
                <State>ready</State>
              ),
          },
          ...(admin ? [{ name: "", cell: (r: Receiver) => <Try name={r.name} /> }] : []),
        ]}
      />
    </Sheet>
  );
}

/** Makes a receiver. */
function Tell() {
  const cache = useQueryClient();
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [about, setAbout] = useState<Subject[]>(all);
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const put = useMutation({
    mutationFn: () =>
      answered(
        client.PUT("/receivers/{receiver}", {
          params: { path: { receiver: name } },
          body: { address, subjects: about, quiet: from && to ? [{ days: "mon-sun", from, to }] : [] },
        }),
      ),
    onSuccess: () => {
      cache.invalidateQueries({ queryKey: ["receivers"] });
      setName("");
      setAddress("");
    },
  });
  const save = (e: FormEvent) => {
    e.preventDefault();
    put.mutate();
  };
  return (
    <Sheet title="Tell somebody" aside="A web hook (https://…) or a mailbox (mailto:…).">
      <form onSubmit={save}>
        <Stack gap="4">
          <Flex gap="4" wrap="wrap" align="flex-end">
            <Labelled label="Name">
              <Input required value={name} onChange={(e) => setName(e.target.value)} placeholder="board" w="10rem" />
            </Labelled>
            <Labelled label="Address" grow>
              <Input
                required
                value={address}
                onChange={(e) => setAddress(e.target.value)}
                placeholder="https://hooks.lanternfish.example/rotanex"
              />
            </Labelled>
            <Labelled label="Quiet from">
              <Input type="time" value={from} onChange={(e) => setFrom(e.target.value)} w="8rem" />
            </Labelled>
            <Labelled label="Quiet until">
              <Input type="time" value={to} onChange={(e) => setTo(e.target.value)} w="8rem" />
            </Labelled>
          </Flex>
          <Flex asChild columnGap="6" rowGap="2" wrap="wrap" borderWidth="0" p="0">
            <fieldset>
              <Text asChild srOnly>
                <legend>What it is told of</legend>
              </Text>
              {all.map((s) => (
                <Checkbox.Root
                  key={s}
                  size="sm"
                  checked={about.includes(s)}
                  onCheckedChange={(e) =>
                    setAbout((old) => all.filter((x) => (x === s ? e.checked === true : old.includes(x))))
                  }
                >
                  <Checkbox.HiddenInput />
                  <Checkbox.Control borderColor="fg.muted" />
                  <Checkbox.Label fontWeight="normal">{subjects[s]}</Checkbox.Label>
                </Checkbox.Root>
              ))}
            </fieldset>
          </Flex>
          <Box>
            <Button type="submit" variant="outline" loading={put.isPending} disabled={about.length === 0}>
              Tell it
            </Button>
          </Box>
          {put.error && <Failed error={put.error} />}
          {put.data?.secret && (
            <Box role="status" borderLeftWidth="3px" borderColor="brass.solid" pl="4" py="1">
              <Text>
                {put.data.name} checks by this secret that what it is sent comes from here. It is not shown again:
              </Text>
              <Code mt="1" px="2" py="1" bg="rail" color="fg" wordBreak="break-all">
                {put.data.secret}
              </Code>
            </Box>
          )}
        </Stack>
      </form>
    </Sheet>
  );
}

function Told() {
  return (
    <Shown query={useNotices()}>
      {(notices) =>
        notices.length > 0 && (
          <Sheet title="What was told" aside="The newest first; kept for 30 days.">
            <List
              label="What was told"
              rows={notices}
              keyOf={(x) => x.id}
              columns={[
                { name: "When", cell: (x) => moment(x.at) },
                { name: "To", cell: (x) => x.receiver },
                { name: "State", cell: (x) => <State>{x.state}</State> },
                {
                  name: "What",
                  cell: (x) => (
                    <Text whiteSpace="normal" minW="20rem">
                      {x.text} {x.run && <Go to={`/runs/${x.run}`}>Open the run</Go>}
                    </Text>
                  ),
                },
              ]}
            />
          </Sheet>
        )
      }
    </Shown>
  );
}

export function Notifications() {
  const receivers = useReceivers();
  const admin = useSession().data?.role === "admin";
  return (
    <Page title="Notifications" lead="Who is told when something ends, falls behind or waits for a person.">
      <Stack gap="6">
        <Shown query={receivers}>
          {(r) =>
            r.length === 0 ? (
              <Empty
                title="Nobody is told"
                command="rotanex notify put ada --to mailto:ada@lanternfish.example --about behind,proposal"
              >
                {admin
                  ? "Tell a web hook or a mailbox below, so that a night that goes wrong wakes somebody."
                  : "An admin can have a web hook or a mailbox told, so that a night that goes wrong wakes somebody."}
              </Empty>
            ) : (
              <Receivers receivers={r} admin={admin} />
            )
          }
        </Shown>
        {admin && <Tell />}
        <Told />
      </Stack>
    </Page>
  );
}
