import { Center } from "@chakra-ui/react";
import { useState } from "react";

/** A frame's picture, or in its place why there is none: OpenEXR has no preview yet. */
export function Preview({ src, alt, format, crop }: { src: string; alt: string; format?: string; crop?: boolean }) {
  const [broken, setBroken] = useState("");
  if (format === "exr" || broken === src)
    return (
      <Center aspectRatio="16 / 9" bg="bg" rounded="sm" color="fg.muted" fontSize="xs" textAlign="center" p="1">
        {format === "exr" ? "OpenEXR: no preview yet" : "no preview"}
      </Center>
    );
  return (
    <img
      src={src}
      alt={alt}
      onError={() => setBroken(src)}
      style={{
        width: "100%",
        borderRadius: 4,
        display: "block",
        ...(crop && { aspectRatio: "16 / 9", objectFit: "cover" as const }),
      }}
    />
  );
}
