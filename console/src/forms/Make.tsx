import { Button } from "@chakra-ui/react";
import { Link } from "react-router";
import { Go } from "../parts/Go";
import { useMayWrite } from "../parts/role";
import { type KindName, kinds } from "./kinds";

/** Leads to the form for a new one of a kind, for those who may make it. */
export function Make({ of, text, quiet }: { of: KindName; text?: string; quiet?: boolean }) {
  if (!useMayWrite()) return null;
  return (
    <Button asChild size={quiet ? "xs" : "sm"} variant={quiet ? "outline" : "solid"}>
      <Link to={`/${of}/new`}>{text ?? `New ${kinds[of].one}`}</Link>
    </Button>
  );
}

/** Leads to the forms that change one of a kind, and that make another like it. */
export function Change({ of, name }: { of: KindName; name: string }) {
  if (!useMayWrite()) return null;
  return (
    <>
      <Button asChild size="sm" variant="outline">
        <Link to={`/${of}/${name}/edit`}>Change</Link>
      </Button>
      <Button asChild size="sm" variant="ghost">
        <Link to={`/${of}/new?like=${encodeURIComponent(name)}`}>Another like it</Link>
      </Button>
    </>
  );
}

/** A name in a list that leads to its form, for those who may change it. */
export function Changed({ of, name, note }: { of: KindName; name: string; note?: string }) {
  const may = useMayWrite();
  return may ? <Go to={`/${of}/${name}/edit`}>{name}</Go> : <span title={note}>{name}</span>;
}
