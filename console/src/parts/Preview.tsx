import { Center } from "@chakra-ui/react";
import { useEffect, useState } from "react";

/** A picture that did not come is asked for again so often, and after so long. */
const retries = 3;
const retryAfter = 3_000;

/** A frame's picture, or in its place that there is none: some OpenEXR is packed in a way that is not read. */
export function Preview({ src, alt, crop }: { src: string; alt: string; crop?: boolean }) {
  const [failed, setFailed] = useState({ src: "", times: 0, now: false });
  const broken = failed.src === src && failed.now;
  useEffect(() => {
    if (!broken || failed.times > retries) return;
    const timer = setTimeout(() => setFailed((f) => ({ ...f, now: false })), retryAfter);
    return () => clearTimeout(timer);
  }, [broken, failed.times]);
  if (broken)
    return (
      <Center aspectRatio="16 / 9" bg="bg" rounded="sm" color="fg.muted" fontSize="xs" textAlign="center" p="1">
        no preview
      </Center>
    );
  return (
    <img
      src={src}
      alt={alt}
      onError={() => setFailed((f) => ({ src, times: f.src === src ? f.times + 1 : 1, now: true }))}
      style={{
        width: "100%",
        borderRadius: 4,
        display: "block",
        ...(crop && { aspectRatio: "16 / 9", objectFit: "cover" as const }),
      }}
    />
  );
}
