import { useCallback, useState } from "react";

/** How long what was typed is kept: after that it says nothing any more. */
export const keptFor = 14 * 24 * 3_600_000;

const prefix = "rotanex draft ";

type Draft = { at: number; value: unknown };

/** What was typed into a form and not saved; nothing, where it was too long ago. */
export function readDraft(key: string): Draft | undefined {
  try {
    const found = localStorage.getItem(prefix + key);
    const draft = found ? (JSON.parse(found) as Draft) : undefined;
    return draft && Date.now() - draft.at < keptFor ? draft : undefined;
  } catch {
    return undefined; // what cannot be read was not typed here
  }
}

/** Keeps what is typed but for secrets, and forgets what was typed too long ago, whatever form it belongs to. */
export function writeDraft(key: string, value: object, secrets: string[]) {
  const safe = Object.fromEntries(Object.entries(value).filter(([name]) => !secrets.includes(name)));
  try {
    for (const name of Object.keys(localStorage))
      if (name.startsWith(prefix) && !readDraft(name.slice(prefix.length))) localStorage.removeItem(name);
    localStorage.setItem(prefix + key, JSON.stringify({ at: Date.now(), value: safe }));
  } catch {
    // No room, or none allowed: what is typed stays as long as the page does.
  }
}

const dropDraft = (key: string) => localStorage.removeItem(prefix + key);

/** What is typed into a form, kept in this browser until it is saved or dropped: a closed tab or an ended
 * session loses nothing. Secrets are left out, by their names. */
export function useDraft<T extends object>(key: string, stored: T, secrets: string[]) {
  const [from, setFrom] = useState(() => readDraft(key));
  const [value, setValue] = useState<T>(() => (from?.value as T) ?? stored);
  const write = useCallback(
    (next: T) => {
      setValue(next);
      writeDraft(key, next, secrets);
    },
    [key, secrets],
  );
  const drop = useCallback(() => {
    dropDraft(key);
    setFrom(undefined);
    setValue(stored);
  }, [key, stored]);
  return { value, write, drop, typed: from?.at };
}
