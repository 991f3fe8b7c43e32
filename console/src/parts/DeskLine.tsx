import { Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { count, length, moment } from "./format";
import { State } from "./Page";

type Desk = Schemas["Desk"];

/** How a desk stands, as a tag. */
export const DeskState = ({ desk }: { desk: Desk }) => <State>{desk.state.replace("-", " ")}</State>;

/** How a machine stands that somebody works at, and how much of its hours plans count on. */
export function DeskLine({ desk }: { desk: Desk }) {
  return (
    <Text fontSize="sm" color="fg.muted">
      A desk, {desk.state.replace("-", " ")} since {moment(desk.since)}
      {desk.until && ` until ${moment(desk.until)}`}: {desk.why}.{" "}
      {desk.taken_back === 0 ? "Not taken back" : `Taken back ${count(desk.taken_back, "time")}`} in 60 days; plans
      count on {Math.round(100 * desk.lent_share)} % of its hours, and on {length(desk.typically_s)} each time it is its
      owner’s.
    </Text>
  );
}
