import { Button, FileUpload, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { usePackage } from "../api/queries";
import { bytes, count, moment } from "../parts/format";
import { List } from "../parts/List";
import { Sheet } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Failed } from "../parts/States";
import { below, pack } from "./packing";

/** What a shot needs to be rendered elsewhere: its files, and a way to send them. */
export function Package({ shot }: { shot: Schemas["Shot"] }) {
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const [said, say] = useState("");
  const stored = usePackage(shot.spec.name).data;
  const send = useMutation({
    mutationFn: (files: File[]) => pack(shot, below(files), say),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["package", shot.spec.name] }),
    onSettled: () => say(""),
  });
  return (
    <Stack gap="6">
      <Sheet title="To be rendered elsewhere">
        <Stack gap="4">
          <Text>
            Rented servers and farms have none of your files. A package holds those that this shot needs, by their paths
            below the scene folder; what is stored already is not sent again.
          </Text>
          {mayWrite && (
            <FileUpload.Root directory maxFiles={20_000} onFileAccept={(e) => e.files.length && send.mutate(e.files)}>
              <FileUpload.HiddenInput aria-label="The folder that agents have as their scene folder" />
              <FileUpload.Context>
                {({ clearFiles }) => (
                  <FileUpload.Trigger asChild>
                    <Button variant="outline" loading={send.isPending} loadingText="Sending" onClick={clearFiles}>
                      {stored ? "Send the folder again" : "Choose the scene folder"}
                    </Button>
                  </FileUpload.Trigger>
                )}
              </FileUpload.Context>
              <Text fontSize="sm" color="fg.muted">
                The folder that agents have as their scene folder: paths are kept as they are below it.
              </Text>
            </FileUpload.Root>
          )}
          <Text role="status" color="fg.muted" _empty={{ display: "none" }}>
            {said}
          </Text>
          {send.error && <Failed error={send.error} />}
        </Stack>
      </Sheet>
      {stored && (
        <Sheet
          title="The package"
          aside={`${count(stored.files.length, "file")}, ${bytes(stored.size)}, made ${moment(stored.made)}`}
        >
          <List
            label="Files"
            rows={stored.files}
            keyOf={(f) => f.path}
            columns={[
              { name: "File", cell: (f) => f.path },
              { name: "Size", cell: (f) => bytes(f.size), right: true },
            ]}
          />
        </Sheet>
      )}
      {!stored && <Text color="fg.muted">No package yet: it is rendered on machines of your own alone.</Text>}
    </Stack>
  );
}
