/** Where in a JSON text its rows are: objects one a line, in a list, under a path, by key, as lists of cells, as GeoJSON features. */
import type { JsonOptions } from '../folder/read-options';
import { JsonValues, valuesOf, type JsonValue } from './json-values';

export interface JsonLayout {
  options: Pick<JsonOptions, 'shape' | 'at' | 'names' | 'header' | 'key'>;
  /** What is worth telling. */
  notes: string[];
}

/** So many values of a list are looked at. */
const LOOKED_AT = 200;
const MOST_STEPS = 4;
/** Rows are most of a text; a list that is less of it is a value of a row. Of few rows the keys around them are much. */
const SHARE = 0.5;
const SHARE_OF_SEVERAL = 0.35;
/** Members of an object are rows where there are so many, and all are objects alike. */
const FEWEST_KEYED = 3;

/** `text`: the beginning of the text, which goes on where `isCut`. `isLines`: its name says that each line is a value. */
export function jsonLayout(text: string, isCut: boolean, isLines: boolean): JsonLayout {
  const start = text.replace(/^\ufeff/, '').trimStart();
  if (isLines) return layout('lines');
  if (start.startsWith('[')) return listAt(start, [], isCut) ?? layout('array');
  const values = new JsonValues(undefined);
  const whole = safely(() => values.push(start)) ?? [];
  const follows = whole.length > 1 || (whole.length === 1 && isCut && start.slice(whole[0]!.text.length).trim() !== '');
  if (follows) return areLines(start, isCut) ? layout('lines') : layout('sequence');
  const found = bestPlace(start, isCut);
  if (found) return found;
  return areLines(start, isCut) ? layout('lines') : layout('sequence');
}

function layout(
  shape: JsonOptions['shape'],
  more: Partial<JsonLayout['options']> = {},
  notes: string[] = [],
): JsonLayout {
  return { options: { shape, at: '', names: [], header: false, key: '', ...more }, notes };
}

/** Whether each line is a value of its own. */
function areLines(text: string, isCut: boolean): boolean {
  const lines = text.split(/\r\n|\n|\r/);
  if (isCut && lines.length > 1) lines.pop();
  const full = lines
    .map((line) => line.trim())
    .filter((line) => line !== '')
    .slice(0, LOOKED_AT);
  const fit = full.filter((line) => /^[{["]/.test(line) && /[}\]"]$/.test(line)).length;
  // A few broken lines are no reason to read them as another thing.
  return full.length > 0 && fit >= full.length * 0.8 && !full.every((line) => line === '{' || line === '}');
}

interface Place {
  layout: JsonLayout;
  characters: number;
  isSeveral: boolean;
}

/** The list or object whose values are most of the text. */
function bestPlace(text: string, isCut: boolean): JsonLayout | undefined {
  const places: Place[] = [];
  const pending: string[][] = [[]];
  for (let path = pending.shift(); path; path = pending.shift()) {
    const { members, open } = membersAt(text, path);
    const keyed = keyedAt(members, path);
    if (keyed) places.push(keyed);
    for (const { key, text: value } of open === undefined ? members : [...members, open]) {
      const below = [...path, key!];
      if (value.startsWith('[')) {
        const found = listAt(text, below, isCut && value === open?.text);
        if (found)
          places.push({
            layout: found,
            characters: value.length,
            isSeveral: (safely(() => new JsonValues(below).push(text).length) ?? 0) > 1,
          });
      } else if (value.startsWith('{') && !keyed && below.length < MOST_STEPS) pending.push(below);
    }
  }
  const [best] = places
    .filter(({ characters, isSeveral }) => characters >= text.length * (isSeveral ? SHARE_OF_SEVERAL : SHARE))
    .sort((a, b) => b.characters - a.characters);
  return best && { ...best.layout, notes: [...best.layout.notes, ...besideNotes(text, best.layout.options.at)] };
}

/** The members of the object under a path, and the one that the text ends within. */
function membersAt(text: string, path: readonly string[]): { members: JsonValue[]; open: JsonValue | undefined } {
  const values = new JsonValues(path);
  const members = (safely(() => values.push(text)) ?? []).filter(({ key }) => key !== undefined);
  const last = values.openValue;
  return { members, open: last?.key === undefined ? undefined : (last as JsonValue) };
}

function keyedAt(members: readonly JsonValue[], path: readonly string[]): Place | undefined {
  const objects = members.filter(({ text }) => text.startsWith('{'));
  if (members.length < FEWEST_KEYED || objects.length < members.length) return undefined;
  const keys = objects.slice(0, LOOKED_AT).map(({ text }) => new Set(valuesOf(text, []).map(({ key }) => key!)));
  const [first] = keys;
  const alike = keys.filter(
    (each) => [...each].filter((key) => first!.has(key)).length * 2 >= Math.max(each.size, first!.size),
  ).length;
  if (first!.size === 0 || alike < keys.length * 0.8) return undefined;
  const key = ['key', 'object_key', 'member_key'].find((name) => !keys.some((each) => each.has(name)))!;
  const characters = members.reduce((sum, each) => sum + each.text.length + each.key!.length + 4, 0);
  return {
    layout: layout('keyed', { at: pointerOf(path), key }, [
      `each member ${path.length === 0 ? 'of the object' : `under ${pointerOf(path)}`} is a row, and its key stands in ${key}`,
    ]),
    characters,
    isSeveral: true,
  };
}

/** What the values of a list are; undefined where they are nothing that makes rows. */
function listAt(text: string, path: readonly string[], isCut: boolean): JsonLayout | undefined {
  const values = new JsonValues(path);
  const some = (safely(() => values.push(text)) ?? []).slice(0, LOOKED_AT);
  const at = pointerOf(path);
  const open = isCut && some.length === 0 ? values.openValue?.text[0] : undefined;
  const kinds = open === undefined ? some.map(({ text: value }) => value[0]!) : [open];
  if (kinds.length === 0) return undefined;
  if (kinds.every((kind) => kind === '{')) {
    if (
      path.at(-1) === 'features' &&
      some.every((each) =>
        valuesOf(each.text, []).some(({ key, text: value }) => key === 'type' && value === '"Feature"'),
      )
    )
      return layout('features', { at }, ['each feature is a row: its properties, and its geometry as GeoJSON text']);
    return layout('array', { at });
  }
  if (kinds.every((kind) => kind === '[') && some.length > 0) return cellsAt(text, path, some);
  // A list of bare values is a column of a row, unless it is all there is.
  return path.length === 0 ? layout('values', {}, ['the list holds bare values, so there is one column']) : undefined;
}

/** Rows as lists of cells: named by a list of names beside them, or by the first of them. */
function cellsAt(text: string, path: readonly string[], rows: readonly JsonValue[]): JsonLayout | undefined {
  const cut = rows.map((each) => valuesOf(each.text, []).map(({ text: cell }) => cell));
  const width = Math.max(...cut.map((each) => each.length));
  if (width === 0 || (path.length > 0 && width < 2)) return undefined;
  const at = pointerOf(path);
  const names = path.length === 0 ? undefined : namesBeside(text, path, width);
  if (names) return layout('cells', { at, names }, [`names are those of the list beside ${at}`]);
  const [first, ...others] = cut;
  const areNames =
    first!.length === width &&
    first!.every((cell) => cell.startsWith('"') && cell.length > 2) &&
    new Set(first).size === width;
  const differ =
    others.length === 0 ||
    first!.some((_, column) =>
      others.some((each) => !(each[column] ?? 'null').startsWith('"') && each[column] !== 'null'),
    );
  if (areNames && differ)
    return layout('cells', { at, header: true, names: first!.map(textOf) }, ['the first list has the names']);
  return layout('cells', { at, names: Array.from({ length: width }, (_, index) => `column_${index + 1}`) }, [
    'the lists have no names, so their columns are numbered',
  ]);
}

function namesBeside(text: string, path: readonly string[], width: number): string[] | undefined {
  const { members } = membersAt(text, path.slice(0, -1));
  for (const each of members) {
    if (!each.text.startsWith('[') || each.key === path.at(-1)) continue;
    const values = safely(() => valuesOf(each.text, [])) ?? [];
    const names = values.map(({ text: value }) =>
      value.startsWith('"') ? textOf(value) : value.startsWith('{') ? nameIn(value) : undefined,
    );
    if (
      names.length === width &&
      names.every((name) => name !== undefined && name !== '') &&
      new Set(names).size === width
    )
      return names as string[];
  }
  return undefined;
}

/** Some list columns as objects that have a name. */
function nameIn(object: string): string | undefined {
  const name = valuesOf(object, []).find(({ key }) => ['name', 'fieldName', 'id', 'label'].includes(key!));
  return name?.text.startsWith('"') ? textOf(name.text) : undefined;
}

/** What stands beside the rows is not read, and told. */
function besideNotes(text: string, at: string): string[] {
  if (at === '') return [];
  const steps = stepsOf(at);
  const beside = membersAt(text, steps.slice(0, -1))
    .members.map(({ key }) => key!)
    .filter(
      (key) => key !== steps.at(-1) && !(steps.at(-1) === 'features' && ['type', 'name', 'crs', 'bbox'].includes(key)),
    );
  const shown = beside.slice(0, 5).join(', ');
  return [
    `rows stand under ${at}${beside.length === 0 ? '' : `; what stands beside is not read: ${shown}${beside.length > 5 ? ` and ${beside.length - 5} more` : ''}`}`,
  ];
}

function textOf(quoted: string): string {
  return JSON.parse(quoted) as string;
}

/** A path as RFC 6901 writes it, '' for the root. */
export function pointerOf(path: readonly string[]): string {
  return path.map((step) => `/${step.replaceAll('~', '~0').replaceAll('/', '~1')}`).join('');
}

export function stepsOf(pointer: string): string[] {
  return pointer === ''
    ? []
    : pointer
        .slice(1)
        .split('/')
        .map((step) => step.replaceAll('~1', '/').replaceAll('~0', '~'));
}

/** A guess that fails is none. */
function safely<T>(guess: () => T): T | undefined {
  try {
    return guess();
  } catch {
    return undefined;
  }
}
