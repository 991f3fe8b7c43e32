import { Box, Field } from "@chakra-ui/react";

/** One of several values, chosen from a list with a label. */
export function Choice<T extends string>({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: T;
  options: (T | { value: T; text: string })[];
  onChange: (value: T) => void;
}) {
  return (
    <Field.Root w="auto">
      <Field.Label color="fg.muted" fontWeight="normal">
        {label}
      </Field.Label>
      <Box asChild borderColor="line" borderWidth="1px" rounded="md" px="3" h="9" bg="bg">
        <select aria-label={label} value={value} onChange={(e) => onChange(e.target.value as T)}>
          {options.map((o) => {
            const { value, text } = typeof o === "string" ? { value: o, text: o } : o;
            return (
              <option key={value} value={value}>
                {text}
              </option>
            );
          })}
        </select>
      </Box>
    </Field.Root>
  );
}
