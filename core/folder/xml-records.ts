/**
 * XML records as objects: attributes and child elements become keys, an element that comes again within its parent
 * becomes a list, text beside children or attributes stands under `text`. Values stay text; types are given later.
 */
import { LakeError } from '../errors';
import { leaves, type Field } from '../schema/types';
import type { XmlOptions } from './read-options';

type Value = string | null | Row | Value[];
interface Row {
  [key: string]: Value;
}
interface Open {
  name: string;
  row: Row;
  text: string;
}

/** Columns so deep in each other mean nothing to anybody, and stop programs that follow them. */
const MOST_NESTED = 100;

export class XmlRecords {
  readonly #open: Open[] = [];
  readonly #record: string;
  readonly #lists: ReadonlySet<string>;
  readonly #structs: ReadonlySet<string>;
  #done: Row[] = [];

  /** The record's name stands without its namespace prefix. */
  constructor({ record, lists, structs }: Pick<XmlOptions, 'record' | 'lists' | 'structs'>) {
    if (record === '') throw new LakeError('bad-request', 'Say which XML element is one row.');
    this.#record = record;
    this.#lists = new Set(lists);
    this.#structs = new Set(structs);
  }

  open(name: string, attributes: Record<string, string>): void {
    const plain = local(name);
    if (this.#open.length === 0 && plain !== this.#record) return;
    const own = Object.entries(attributes).filter(([key]) => key !== 'xmlns' && !key.startsWith('xmlns:')).map(([key, value]) => [local(key), value] as const);
    if (this.#open.length >= MOST_NESTED) throw new LakeError('bad-file', `Elements are nested more than ${MOST_NESTED} deep in <${this.#record}>, at <${plain}>.`, { hint: 'Name an element nearer to the values as the row, or take the file out of the folder.' });
    this.#open.push({ name: plain, row: Object.fromEntries(own), text: '' });
  }

  text(text: string): void {
    const here = this.#open.at(-1);
    if (here) here.text += text;
  }

  close(name: string): void {
    const here = this.#open.at(-1);
    if (!here || here.name !== local(name)) return;
    this.#open.pop();
    const parent = this.#open.at(-1);
    if (!parent) this.#done.push(asRow(here));
    else {
      const path = [...this.#open.slice(1).map((each) => each.name), here.name].join('.');
      put(parent.row, here.name, valueOf(here, this.#structs.has(path)), this.#lists.has(path));
    }
  }

  /** The records that were finished since the last time. */
  take(): Row[] {
    const done = this.#done;
    this.#done = [];
    return done;
  }
}

function local(name: string): string {
  return name.slice(name.indexOf(':') + 1);
}

function valueOf(element: Open, isStruct: boolean): Value {
  if (isStruct || Object.keys(element.row).length > 0) return asRow(element);
  const text = element.text.trim();
  return text === '' ? null : text;
}

function asRow({ row, text }: Open): Row {
  return text.trim() === '' ? row : { ...row, text: text.trim() };
}

function put(row: Row, key: string, value: Value, isList: boolean): void {
  const there = row[key];
  if (there === undefined) row[key] = isList ? [value] : value;
  else if (Array.isArray(there)) there.push(value);
  else row[key] = [there, value];
}

/** The element that is most likely a row: the one that comes most often right below the root. Undefined when there is none. */
export function guessRecord(beginning: string): string | undefined {
  const tags = beginning.replace(/<!--[\s\S]*?-->|<!\[CDATA\[[\s\S]*?\]\]>|<[?!][^>]*>/g, '').matchAll(/<(\/?)([\w.:-]+)(?:\s[^>]*?)?(\/?)>/g);
  const counts = new Map<string, number>();
  let depth = 0;
  for (const [, closing, name, empty] of tags) {
    if (closing) depth--;
    else {
      if (depth === 1) counts.set(local(name!), (counts.get(local(name!)) ?? 0) + 1);
      if (!empty) depth++;
    }
  }
  return [...counts].sort((a, b) => b[1] - a[1])[0]?.[0];
}

/** What must be known beforehand so that every record has the shape of the fields. */
export function shapeOf(fields: readonly Field[]): Pick<XmlOptions, 'lists' | 'structs'> {
  const lists = new Set<string>();
  const structs = new Set<string>();
  for (const { path } of leaves(fields)) {
    const plain: string[] = [];
    path.forEach((step, index) => {
      if (step !== 'element') plain.push(step);
      if (path[index + 1] === 'element') lists.add(plain.join('.'));
      else if (index < path.length - 1) structs.add(plain.join('.'));
    });
  }
  return { lists: [...lists], structs: [...structs] };
}
