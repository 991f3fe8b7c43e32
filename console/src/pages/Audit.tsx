import { Input, Stack } from "@chakra-ui/react";
import { useDeferredValue } from "react";
import { useSearchParams } from "react-router";
import { useAudit } from "../api/queries";
import { Go } from "../parts/Go";
import { Labelled } from "../parts/Labelled";
import { Page, Sheet } from "../parts/Page";
import { NoRecords, Records } from "../parts/Records";
import { Shown } from "../parts/States";

/** What is searched for, as the page's address has it. */
const fields = [
  { name: "text", label: "Anywhere", hint: "price" },
  { name: "who", label: "Who", hint: "service: by itself" },
  { name: "about", label: "Done to", hint: "/hosts/eddy" },
] as const;

/** Who did what, to be searched. */
export function Audit() {
  const [asked, ask] = useSearchParams();
  const value = (name: string) => asked.get(name) ?? "";
  const wanted = useDeferredValue({ text: value("text"), who: value("who"), about: value("about"), limit: 200 });
  const records = useAudit(wanted, true);
  const set = (name: string, to: string) =>
    ask(
      (now) => {
        if (to) now.set(name, to);
        else now.delete(name);
        return now;
      },
      { replace: true },
    );
  return (
    <Page
      title="Audit"
      actions={<Go to="/storage">What is kept, and for how long</Go>}
      lead="Who changed or spent what, when and from where, the last 200. All of it: rotanex audit --output csv"
    >
      <Stack gap="6">
        <Stack direction={{ base: "column", md: "row" }} gap="4" maxW="60rem">
          {fields.map((f) => (
            <Labelled key={f.name} label={f.label}>
              <Input
                size="sm"
                bg="paper"
                placeholder={f.hint}
                value={value(f.name)}
                onChange={(e) => set(f.name, e.target.value)}
              />
            </Labelled>
          ))}
        </Stack>
        <Shown query={records}>
          {(all) =>
            all.length === 0 ? (
              <NoRecords />
            ) : (
              <Sheet>
                <Records records={all} />
              </Sheet>
            )
          }
        </Shown>
      </Stack>
    </Page>
  );
}
