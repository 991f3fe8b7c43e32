import { Box, Button, Flex, Input, Menu, Portal, Table, Text } from "@chakra-ui/react";
import {
  columnFilteringFeature,
  columnVisibilityFeature,
  createFilteredRowModel,
  createSortedRowModel,
  filterFn_includesString,
  globalFilteringFeature,
  type Row,
  rowSortingFeature,
  tableFeatures,
  useTable,
} from "@tanstack/react-table";
import { type ReactNode, useState } from "react";
import { LuArrowDown, LuArrowUp } from "react-icons/lu";
import { csvOf, order, type Plain } from "./csv";

export type Column<T> = {
  name: string;
  cell: (row: T) => ReactNode;
  right?: boolean;
  value?: (row: T) => Plain; // what it is sorted by, and says as CSV; without it, what is shown, where that is plain text
};

/** So many rows are shown before more are asked for: what is not there takes no time. */
const rowsAtOnce = 50;

/** From so many rows on, a table can be searched. */
const many = 8;

const features = tableFeatures({
  columnFilteringFeature,
  globalFilteringFeature,
  rowSortingFeature,
  columnVisibilityFeature,
  filteredRowModel: createFilteredRowModel(),
  sortedRowModel: createSortedRowModel(),
  filterFns: { includesString: filterFn_includesString },
});

/** What a cell says in plain words. */
function plain<T>(c: Column<T>, row: T): Plain {
  if (c.value) return c.value(row);
  const shown = c.cell(row);
  return typeof shown === "string" || typeof shown === "number" ? shown : undefined;
}

const useListTable = <T extends object>(columns: Column<T>[], rows: T[], keyOf: (row: T) => string) =>
  useTable({
    features,
    data: rows,
    getRowId: keyOf,
    globalFilterFn: "includesString",
    getColumnCanGlobalFilter: () => true,
    columns: columns.map((c, i) => ({
      id: `${i} ${c.name}`,
      header: c.name,
      accessorFn: (row: T) => plain(c, row),
      enableSorting: !!c.value,
      sortFn: (a: Row<typeof features, T>, b: Row<typeof features, T>, id: string) =>
        order(a.getValue(id), b.getValue(id)),
      sortUndefined: "last" as const,
      enableHiding: c.name !== "" && i > 0,
    })),
  });

type ListTable<T extends object> = ReturnType<typeof useListTable<T>>;

/** Puts a text where it can be pasted from, or saves it where pages may not do that. */
async function copy(text: string, name: string) {
  try {
    await navigator.clipboard.writeText(text);
    return "Copied";
  } catch {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
    link.download = `${name.toLowerCase().replaceAll(" ", "-")}.csv`;
    link.click();
    URL.revokeObjectURL(link.href);
    return "Saved";
  }
}

/** What can be done with a long table: searched, fewer columns, taken away. */
function Tools<T extends object>({ label, table }: { label: string; table: ListTable<T> }) {
  const [said, say] = useState("");
  const hideable = table.getAllLeafColumns().filter((c) => c.getCanHide());
  const take = async () => {
    const { rows } = table.getRowModel();
    // A column of buttons or pictures says nothing.
    const shown = table.getVisibleLeafColumns().filter((c) => rows.some((r) => r.getValue(c.id) !== undefined));
    const lines = rows.map((r) => shown.map((c) => r.getValue<Plain>(c.id)));
    say(await copy(csvOf([shown.map((c) => String(c.columnDef.header)), ...lines]), label));
  };
  return (
    <Flex gap="3" mb="2" align="center" wrap="wrap">
      <Input
        type="search"
        size="sm"
        w="14rem"
        borderColor="line"
        aria-label={`Search in ${label.toLowerCase()}`}
        placeholder="Search"
        value={table.state.globalFilter ?? ""}
        onChange={(e) => table.setGlobalFilter(e.target.value)}
      />
      <Text fontSize="sm" color="fg.muted" role="status">
        {[table.state.globalFilter && `${table.getRowModel().rows.length} found`, said].filter(Boolean).join("; ")}
      </Text>
      <Flex gap="1" ms="auto">
        <Menu.Root closeOnSelect={false}>
          <Menu.Trigger asChild>
            <Button size="xs" variant="ghost" color="fg.muted">
              Columns
            </Button>
          </Menu.Trigger>
          <Portal>
            <Menu.Positioner>
              <Menu.Content bg="paper">
                {hideable.map((c) => (
                  <Menu.CheckboxItem
                    key={c.id}
                    value={c.id}
                    checked={c.getIsVisible()}
                    onCheckedChange={(on) => c.toggleVisibility(on)}
                  >
                    {String(c.columnDef.header)}
                    <Menu.ItemIndicator />
                  </Menu.CheckboxItem>
                ))}
              </Menu.Content>
            </Menu.Positioner>
          </Portal>
        </Menu.Root>
        <Button size="xs" variant="ghost" color="fg.muted" onClick={take}>
          Copy as CSV
        </Button>
      </Flex>
    </Flex>
  );
}

/** A table of records: sorted by what is clicked above a column; a long one can be searched, shown with fewer columns
 * and copied. */
export function List<T extends object>({
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
  const table = useListTable(columns, rows, keyOf);
  const found = table.getRowModel().rows;
  const column = (id: string) => columns[Number.parseInt(id, 10)];
  const end = (id: string) => (column(id).right ? "end" : "start");
  return (
    <>
      {rows.length >= many && <Tools label={label} table={table} />}
      {/* A table wider than its room scrolls, so it can be reached with the keyboard. */}
      <Box overflowX="auto" tabIndex={0} role="region" aria-label={label}>
        <Table.Root size="sm" aria-label={label} css={{ "& td, & th": { borderColor: "line" } }}>
          <Table.Header>
            <Table.Row bg="transparent">
              {table.getVisibleLeafColumns().map((c) => (
                <Table.ColumnHeader
                  key={c.id}
                  color="fg.muted"
                  fontWeight="medium"
                  textAlign={end(c.id)}
                  whiteSpace="nowrap"
                  aria-sort={
                    { asc: "ascending" as const, desc: "descending" as const, none: undefined }[
                      c.getIsSorted() || "none"
                    ]
                  }
                >
                  {c.getCanSort() ? (
                    <SortBy name={String(c.columnDef.header)} sorted={c.getIsSorted()} by={() => c.toggleSorting()} />
                  ) : (
                    String(c.columnDef.header)
                  )}
                </Table.ColumnHeader>
              ))}
            </Table.Row>
          </Table.Header>
          <Table.Body>
            {found.slice(0, shown).map((row) => (
              <Table.Row key={row.id} bg="transparent">
                {row.getVisibleCells().map((c) => (
                  <Table.Cell key={c.id} textAlign={end(c.column.id)} whiteSpace="nowrap" py="2">
                    {column(c.column.id).cell(row.original)}
                  </Table.Cell>
                ))}
              </Table.Row>
            ))}
          </Table.Body>
        </Table.Root>
        {found.length > shown && (
          <Button variant="plain" size="sm" px="2" mt="2" onClick={() => setShown(shown + rowsAtOnce)}>
            {found.length - shown} more
          </Button>
        )}
      </Box>
    </>
  );
}

/** The name above a column, which sorts by it: up, down, and as it came. */
function SortBy({ name, sorted, by }: { name: string; sorted: false | "asc" | "desc"; by: () => void }) {
  return (
    <Flex asChild display="inline-flex" align="center" gap="1" fontWeight="inherit" color="inherit" cursor="pointer">
      <button type="button" onClick={by} title={`Sort by ${name.toLowerCase()}`}>
        {name}
        {sorted === "asc" && <LuArrowUp size={12} aria-hidden />}
        {sorted === "desc" && <LuArrowDown size={12} aria-hidden />}
      </button>
    </Flex>
  );
}
