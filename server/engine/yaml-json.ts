/** YAML as JSON text: a document after the other. Numbers keep the digits that they are written with. */
import { isAlias, isMap, isScalar, isSeq, parseAllDocuments, type Document, type Node } from 'yaml';
import { LakeError } from '../../core/errors';

/** A document is held whole while it is read. */
const MOST_BYTES = 64 * 1024 * 1024;
/** A few lines can stand for billions of values where each names the one before. */
const MOST_ALIASES = 1000;
const MOST_DEPTH = 200;

export async function* jsonOfYaml(
  bytes: AsyncIterable<Buffer>,
  decoder: InstanceType<typeof TextDecoder>,
): AsyncGenerator<string> {
  const parts: string[] = [];
  let size = 0;
  for await (const chunk of bytes) {
    size += chunk.length;
    if (size > MOST_BYTES)
      throw new LakeError(
        'limit',
        `YAML of more than ${MOST_BYTES / 1024 / 1024} MB is not read; have it written as JSON lines`,
      );
    parts.push(decoder.decode(chunk, { stream: true }));
  }
  yield* yamlAsJson(parts.join(''));
}

/** The beginning of a text that is cut, up to where the last thing at its left margin begins. */
export function wholeItems(text: string): string {
  const last = [...text.matchAll(/\n(?=[^\s#])/g)].at(-1);
  return last === undefined || last.index === 0 ? text : text.slice(0, last.index + 1);
}

/** Fails on what is no YAML, with its line. */
export function* yamlAsJson(text: string): Generator<string> {
  const documents = parseAllDocuments(text, {
    intAsBigInt: true,
    logLevel: 'silent',
    prettyErrors: false,
    uniqueKeys: true,
  });
  if (!Array.isArray(documents)) return;
  for (const document of documents as Document.Parsed[]) {
    const [fault] = document.errors;
    if (fault)
      throw new LakeError(
        'bad-file',
        `line ${text.slice(0, fault.pos[0]).split('\n').length}: not well-formed YAML: ${fault.message}`,
      );
    if (document.contents) yield `${new Printer(document).print(document.contents as Node, 0)}\n`;
  }
}

class Printer {
  #aliases = 0;

  constructor(readonly document: Document) {}

  print(node: unknown, depth: number): string {
    if (depth > MOST_DEPTH) throw new LakeError('bad-file', `values are nested more than ${MOST_DEPTH} deep`);
    if (isAlias(node)) {
      if (++this.#aliases > MOST_ALIASES)
        throw new LakeError('limit', `more than ${MOST_ALIASES} references within it`);
      return this.print(node.resolve(this.document), depth + 1);
    }
    if (isMap(node))
      return `{${node.items.map(({ key, value }) => `${JSON.stringify(keyText(key))}:${this.print(value, depth + 1)}`).join(',')}}`;
    if (isSeq(node)) return `[${node.items.map((each) => this.print(each, depth + 1)).join(',')}]`;
    return isScalar(node) ? scalar(node.value, node.source) : 'null';
  }
}

function keyText(key: unknown): string {
  return isScalar(key) ? (key.source ?? String(key.value)) : String(key);
}

/** As it is written where that is a number of JSON too; what JSON has no number for is text. */
function scalar(value: unknown, source: string | undefined): string {
  if (typeof value === 'bigint') return value.toString();
  if (typeof value === 'number')
    return source !== undefined && /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(source)
      ? source
      : Number.isFinite(value)
        ? JSON.stringify(value)
        : JSON.stringify(source ?? String(value));
  return typeof value === 'boolean'
    ? String(value)
    : value === null || value === undefined
      ? 'null'
      : JSON.stringify(String(value));
}
