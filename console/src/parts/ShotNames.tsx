import { Text } from "@chakra-ui/react";
import { Fragment } from "react";

/** So many shots are named in a row of a list. */
const named = 4;

/** The first shots of a run or a plan, and how many more there are. */
export function ShotNames({ shots }: { shots: string[] }) {
  const first = shots.slice(0, named);
  return (
    <Text maxW="12rem" whiteSpace="normal">
      {first.map((s, i) => (
        <Fragment key={s}>
          {i > 0 && " "}
          <Text as="span" whiteSpace="nowrap">
            {s}
            {i < first.length - 1 && ","}
          </Text>
        </Fragment>
      ))}
      {shots.length > named && ` and ${shots.length - named} more`}
    </Text>
  );
}
