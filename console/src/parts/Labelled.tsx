import { Field } from "@chakra-ui/react";
import type { ReactNode } from "react";

/** A field with what it is for above it; one that grows takes what room there is. */
export function Labelled({ label, grow, children }: { label: string; grow?: boolean; children: ReactNode }) {
  return (
    <Field.Root w={grow ? "full" : "auto"} flex={grow ? "1 1 16rem" : undefined}>
      <Field.Label color="fg.muted" fontWeight="normal">
        {label}
      </Field.Label>
      {children}
    </Field.Root>
  );
}
