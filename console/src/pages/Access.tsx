import { Box, Button, Code, Flex, HStack, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { answered, client, type Schemas } from "../api/client";
import { useHosts, useSession, useTokens } from "../api/queries";
import { SpecForm } from "../forms/SpecForm";
import { Choice } from "../parts/Choice";
import { Confirmed } from "../parts/Confirmed";
import { moment, none } from "../parts/format";
import { List } from "../parts/List";
import { Page, Sheet, State } from "../parts/Page";
import { Empty, Failed, Shown } from "../parts/States";

type Made = Schemas["MadeToken"];

/** A secret, shown this once, with what is done with it. */
function Secret({ made, children }: { made: Made; children?: React.ReactNode }) {
  return (
    <Box role="status" borderLeftWidth="3px" borderColor="brass.solid" pl="4" py="1">
      <Text>{children ?? `The token of ${made.token.name}. It is not shown again:`}</Text>
      <Code mt="1" px="2" py="1" bg="rail" color="fg" wordBreak="break-all" whiteSpace="pre-wrap">
        {made.secret}
      </Code>
    </Box>
  );
}

/** Gives a token another secret, or makes it worthless. */
function Acts({ token, onMade }: { token: Schemas["Token"]; onMade: (m: Made) => void }) {
  const cache = useQueryClient();
  const done = () => cache.invalidateQueries({ queryKey: ["tokens"] });
  const path = { params: { path: { token: token.id } } };
  const rotate = useMutation({
    mutationFn: () => answered(client.POST("/tokens/{token}/rotation", path)),
    onSuccess: (made) => {
      onMade(made);
      done();
    },
  });
  return (
    <HStack gap="2">
      {!token.join && token.role !== "agent" && (
        <Button size="xs" variant="outline" loading={rotate.isPending} onClick={() => rotate.mutate()}>
          New secret
        </Button>
      )}
      <Confirmed
        text="Revoke"
        label={`Revoke ${token.name}`}
        size="xs"
        yes="Yes, revoke it"
        does={() => answered(client.DELETE("/tokens/{token}", path)).then(done)}
      />
      {rotate.error && (
        <Text role="alert" fontSize="xs" color="failed">
          {rotate.error.message}
        </Text>
      )}
    </HStack>
  );
}

const kindOf = (t: Schemas["Token"]) => (t.join ? "join token, once" : t.role);

function Tokens({ all, onMade }: { all: Schemas["Token"][]; onMade: (m: Made) => void }) {
  return (
    <Sheet title="Tokens" aside="Their secrets are kept nowhere; a lost one is given another.">
      <List
        label="Tokens"
        rows={all}
        keyOf={(t) => String(t.id)}
        columns={[
          { name: "For", cell: (t) => t.name },
          { name: "Role", cell: (t) => <State>{kindOf(t)}</State> },
          { name: "Host", cell: (t) => t.host ?? none },
          { name: "Made", cell: (t) => moment(t.created) },
          { name: "Used last", cell: (t) => moment(t.used) },
          { name: "Good until", cell: (t) => (t.expires ? moment(t.expires) : "it is revoked") },
          { name: "", cell: (t) => <Acts token={t} onMade={onMade} /> },
        ]}
      />
    </Sheet>
  );
}

/** Lets the agent of a host join: a token for once, and the line to type there. */
export function JoinToken() {
  const hosts = (useHosts().data ?? []).filter((h) => !h.server);
  const cache = useQueryClient();
  const [host, setHost] = useState("");
  const chosen = host || hosts.find((h) => h.agent !== "up")?.spec.name || hosts[0]?.spec.name || "";
  const join = useMutation({
    mutationFn: () =>
      answered(client.POST("/tokens", { body: { name: `join ${chosen}`, role: "agent", host: chosen } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["tokens"] }),
  });
  const make = (e: FormEvent) => {
    e.preventDefault();
    join.mutate();
  };
  if (hosts.length === 0) return <Text color="fg.muted">Describe a host first: an agent joins for one of them.</Text>;
  return (
    <form onSubmit={make}>
      <Stack gap="4">
        <Flex gap="3" align="flex-end" wrap="wrap">
          <Choice
            label="Host"
            value={chosen}
            options={hosts.map((h) => ({ value: h.spec.name, text: `${h.spec.name}, ${agentOf(h)}` }))}
            onChange={setHost}
          />
          <Button type="submit" variant="outline" loading={join.isPending}>
            Make a join token
          </Button>
        </Flex>
        {join.error && <Failed error={join.error} />}
        {join.data && (
          <Secret made={{ ...join.data, secret: lineOf(join.data) }}>
            Type this on {join.data.token.host} within a day. It works once, and is not shown again; scenes lie below
            the folder named:
          </Secret>
        )}
      </Stack>
    </form>
  );
}

const agentOf = (h: Schemas["Host"]) => (h.agent === "none" ? "no agent yet" : `agent ${h.agent}`);

const lineOf = (made: Made) =>
  `rotanex-agent --service ${location.origin} --host ${made.token.host} --join-token ${made.secret} --scenes /srv/scenes --allow povray`;

const first = ["name", "role", "days"];
const fresh = { role: "operator", days: 90 };

/** Who may do what: tokens for people and programs, join tokens for agents. */
export function Access() {
  const cache = useQueryClient();
  const admin = useSession().data?.role === "admin";
  const tokens = useTokens(admin);
  const [made, setMade] = useState<Made>();
  const make = async (value: Record<string, unknown>) => {
    setMade(await answered(client.POST("/tokens", { body: value as Schemas["NewToken"] })));
    cache.invalidateQueries({ queryKey: ["tokens"] });
  };
  return (
    <Page title="Access" lead="Who may do what: people and programs by tokens, agents by a token that is good once.">
      {admin ? (
        <Stack gap="6">
          <Sheet title="Let an agent join" aside="It finds out what is in its machine, and takes work from then on.">
            <JoinToken />
          </Sheet>
          <Sheet title="New token" aside="viewer: looks; operator: plans, starts and pays; admin: everything.">
            <SpecForm
              schema="NewToken"
              draft="new token"
              stored={fresh}
              ui={{ "ui:first": first, host: { "ui:widget": "hidden" } }}
              save="Make the token"
              onSave={make}
            />
            {made && (
              <Box mt="4">
                <Secret made={made} />
              </Box>
            )}
          </Sheet>
          <Shown query={tokens}>{(all) => <Tokens all={all} onMade={setMade} />}</Shown>
        </Stack>
      ) : (
        <Empty title="An admin sees this">Tokens are made, listed and revoked with an admin's token.</Empty>
      )}
    </Page>
  );
}
