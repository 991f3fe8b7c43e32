import { Box, Button, Table } from "@chakra-ui/react";
import { type ReactNode, useState } from "react";

export type Column<T> = { name: string; cell: (row: T) => ReactNode; right?: boolean };

/** So many rows are shown before more are asked for: what is not there takes no time. */
const rowsAtOnce = 50;

/** A table of records. */
export function List<T>({
  label,
  columns,
  rows,
  keyOf,
}: {
  label: string;
  columns: Column<T>[];
  rows: T[];
  keyOf: (row: T) => string;
}) {
  const [shown, setShown] = useState(rowsAtOnce);
  return (
    // A table wider than its room scrolls, so it can be reached with the keyboard.
    <Box overflowX="auto" tabIndex={0} role="region" aria-label={label}>
      <Table.Root size="sm" aria-label={label} css={{ "& td, & th": { borderColor: "line" } }}>
        <Table.Header>
          <Table.Row bg="transparent">
            {columns.map((c) => (
              <Table.ColumnHeader
                key={c.name}
                color="fg.muted"
                fontWeight="medium"
                textAlign={c.right ? "end" : "start"}
                whiteSpace="nowrap"
              >
                {c.name}
              </Table.ColumnHeader>
            ))}
          </Table.Row>
        </Table.Header>
        <Table.Body>
          {rows.slice(0, shown).map((row) => (
            <Table.Row key={keyOf(row)} bg="transparent">
              {columns.map((c) => (
                <Table.Cell key={c.name} textAlign={c.right ? "end" : "start"} whiteSpace="nowrap" py="2">
                  {c.cell(row)}
                </Table.Cell>
              ))}
            </Table.Row>
          ))}
        </Table.Body>
      </Table.Root>
      {rows.length > shown && (
        <Button variant="plain" size="sm" px="2" mt="2" onClick={() => setShown(shown + rowsAtOnce)}>
          {rows.length - shown} more
        </Button>
      )}
    </Box>
  );
}
