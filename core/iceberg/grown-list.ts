/**
 * JSON documents of which one list grows from each to the next, as the snapshots in table metadata do: what the list had
 * before is not parsed again where its text is the same.
 */

export interface KnownList {
  /** Between the brackets, up to the last item. */
  text: string;
  items: readonly unknown[];
}

/** Stands for the items that are known; no document has it. */
const MARK = '\u0001known';

export interface GrownDocument {
  json: Record<string, unknown>;
  /** Of the list: those that were not known. */
  added: unknown[];
  /** For the next document; undefined where the list was not found. */
  known: KnownList | undefined;
}

/** `key`: the list's name, at the top of the document. `parse` is given the text of a whole document. */
export function parseGrown(text: string, key: string, before: KnownList | undefined, parse: (text: string) => unknown): GrownDocument | undefined {
  const start = startOfList(text, key);
  if (start === undefined) return undefined;
  const shared = before && before.items.length > 0 && text.startsWith(before.text, start) ? before : undefined;
  const from = start + (shared?.text.length ?? 0);
  const end = endOfList(text, from);
  if (end === undefined) return undefined;
  const rest = text.slice(from, end);
  if (shared && !/^\s*(?:,|$)/.test(rest)) return undefined;
  const short = shared ? `${text.slice(0, start)}${JSON.stringify(MARK)}${rest}${text.slice(end)}` : text;
  const json = parse(short) as Record<string, unknown> | null;
  const list = typeof json === 'object' && json !== null ? json[key] : undefined;
  if (!json || !Array.isArray(list)) return undefined;
  // A list of the same name inside something else.
  if (shared && list[0] !== MARK) return undefined;
  const added: unknown[] = shared ? list.slice(1) : list;
  const items = shared ? [...shared.items, ...added] : list;
  json[key] = items;
  return { json, added, known: { text: text.slice(start, end).trimEnd(), items } };
}

/** After the bracket that opens it. */
function startOfList(text: string, key: string): number | undefined {
  const found = new RegExp(`(?<!\\\\)"${key}"\\s*:\\s*\\[`).exec(text);
  return found ? found.index + found[0].length : undefined;
}

/** Before the bracket that closes it. */
function endOfList(text: string, from: number): number | undefined {
  let depth = 0;
  for (let at = from; at < text.length; at++) {
    const code = text.charCodeAt(at);
    if (code === QUOTE) {
      at = endOfText(text, at);
      if (at < 0) return undefined;
    } else if (code === OPEN_LIST || code === OPEN_OBJECT) depth++;
    else if (code === CLOSE_LIST || code === CLOSE_OBJECT) {
      if (depth === 0) return code === CLOSE_LIST ? at : undefined;
      depth--;
    }
  }
  return undefined;
}

const [QUOTE, BACKSLASH, OPEN_LIST, CLOSE_LIST, OPEN_OBJECT, CLOSE_OBJECT] = [34, 92, 91, 93, 123, 125];

/** Of its closing quote; -1 where there is none. */
function endOfText(text: string, from: number): number {
  for (let at = text.indexOf('"', from + 1); at >= 0; at = text.indexOf('"', at + 1)) {
    let escapes = 0;
    while (text.charCodeAt(at - 1 - escapes) === BACKSLASH) escapes++;
    if (escapes % 2 === 0) return at;
  }
  return -1;
}
