import { answered, client, Refusal, type Schemas } from "../api/client";

/** Into what files are cut. */
export const chunkSize = 4 << 20;

/** A file of a folder that was chosen, by its path below that folder. */
export type Found = { path: string; file: Blob };

/** The files of a folder that was chosen: what the browser puts before their paths is its name. */
export const below = (files: Iterable<File>): Found[] =>
  [...files]
    .map((file) => ({ path: file.webkitRelativePath.split("/").slice(1).join("/") || file.name, file }))
    .sort((a, b) => (a.path < b.path ? -1 : 1));

/** What a shot needs that is not among the files. */
export const lacking = (spec: Pick<Schemas["ShotSpec"], "scene" | "inputs">, files: Found[]) =>
  [spec.scene, ...(spec.inputs ?? [])].filter((need) => !files.some((f) => f.path === need));

async function sum(part: Blob) {
  const digest = await crypto.subtle.digest("SHA-256", await part.arrayBuffer());
  return [...new Uint8Array(digest)].map((b) => b.toString(16).padStart(2, "0")).join("");
}

/** The chunks of files by their sums, and where each can be read. */
export async function cut(files: Found[], said: (done: number) => void = () => {}) {
  const where = new Map<string, Blob>();
  const out: Schemas["PackageFile"][] = [];
  for (const { path, file } of files) {
    const chunks: string[] = [];
    for (let at = 0; at < file.size; at += chunkSize) {
      const part = file.slice(at, at + chunkSize);
      const name = await sum(part);
      where.set(name, part);
      chunks.push(name);
    }
    out.push({ path, size: file.size, chunks });
    said(out.length);
  }
  return { files: out, where };
}

/** Stores files as a shot's package. Chunks that the service has are not sent again, so that what was broken off goes
 * on where it was. */
export async function pack(shot: Schemas["Shot"], files: Found[], said: (text: string) => void) {
  if (!crypto.subtle)
    throw new Refusal("Browsers sum files on https:// and on this machine alone: use the command line.");
  const lacks = lacking(shot.spec, files);
  if (lacks.length > 0)
    throw new Refusal(
      `${shot.spec.name} needs ${lacks.join(", ")}, which is not among the ${files.length} files of the folder; nothing was sent. Choose the folder that agents have as their scene folder.`,
    );
  const made = await cut(files, (done) => said(`${done} of ${files.length} files summed`));
  const { sums } = await answered(client.POST("/chunks/missing", { body: { sums: [...made.where.keys()].sort() } }));
  for (const [i, name] of sums.entries()) {
    said(`${i} of ${sums.length} pieces sent`);
    await answered(
      client.PUT("/chunks/{sum}", {
        params: { path: { sum: name } },
        body: made.where.get(name) as never,
        bodySerializer: (part) => part,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    );
  }
  return answered(
    client.PUT("/shots/{shot}/package", { params: { path: { shot: shot.spec.name } }, body: { files: made.files } }),
  );
}
