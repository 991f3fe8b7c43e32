import { Link } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { NavLink } from "react-router";

/** A link to another page of the console. */
export function Go({ to, children }: { to: string; children: ReactNode }) {
  return (
    <Link
      asChild
      color="brass.fg"
      fontWeight="medium"
      textDecoration="underline"
      textUnderlineOffset="3px"
      textDecorationColor="line"
    >
      <NavLink to={to}>{children}</NavLink>
    </Link>
  );
}
