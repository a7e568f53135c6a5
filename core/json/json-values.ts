/**
 * The values of a JSON text, cut out as the text they are: nothing is parsed, so no digit is lost, and no more is held than one
 * value. RFC 8259; values may also follow each other with nothing but blanks between.
 */
import { LakeError } from '../errors';

export interface JsonValue {
  /** The key it stands under, where it stands in an object. */
  key?: string;
  /** Its text on one line. */
  text: string;
}

/** A value longer than this is none that anybody meant to be a row. */
const MOST_CHARACTERS = 64 * 1024 * 1024;
const [QUOTE, ESCAPE, OPEN_LIST, CLOSE_LIST, OPEN_OBJECT, CLOSE_OBJECT, COMMA, COLON] = [
  0x22, 0x5c, 0x5b, 0x5d, 0x7b, 0x7d, 0x2c, 0x3a,
];

/** The values of the list or object under `path`, '' for the root; with `undefined` the values that follow each other at the root. */
export class JsonValues {
  readonly #path: readonly string[] | undefined;
  /** For each container that is open: its key as given, and whether it is an object. */
  readonly #open: { key: string | undefined; isObject: boolean; lastKey: string | undefined }[] = [];
  #keepFrom = -1;
  #inString = false;
  #isEscaped = false;
  #stringFrom = -1;
  #isKeyNext = false;
  #scalarFrom = -1;
  #depthOfValue = -1;
  #valueKey: string | undefined;
  #held = '';
  #at = 0;
  /** Whether there is anything under the path. */
  wasMet = false;

  constructor(path: readonly string[] | undefined) {
    this.#path = path;
  }

  /** What is whole so far. Fails on brackets that do not fit each other. */
  push(part: string): JsonValue[] {
    const found: JsonValue[] = [];
    this.#held += part;
    const text = this.#held;
    let at = this.#at;
    for (; at < text.length; at++) {
      const code = text.charCodeAt(at);
      if (this.#inString) {
        if (this.#isEscaped) this.#isEscaped = false;
        else if (code === ESCAPE) this.#isEscaped = true;
        else if (code === QUOTE) {
          this.#inString = false;
          this.#endString(text, at + 1, found);
        }
        continue;
      }
      if (code === QUOTE) {
        this.#inString = true;
        this.#stringFrom = at;
        this.#beginValue(at, this.#isKeyNext);
      } else if (code === OPEN_OBJECT || code === OPEN_LIST) {
        this.#beginValue(at, false);
        this.#enter(code === OPEN_OBJECT);
      } else if (code === CLOSE_OBJECT || code === CLOSE_LIST) {
        this.#endScalar(text, at, found);
        this.#leave(code === CLOSE_OBJECT, text, at + 1, found);
      } else if (code === COMMA) {
        this.#endScalar(text, at, found);
        const top = this.#open.at(-1);
        this.#isKeyNext = top?.isObject ?? false;
      } else if (code === COLON) {
        this.#isKeyNext = false;
      } else if (code <= 0x20) {
        this.#endScalar(text, at, found);
      } else if (this.#scalarFrom < 0) {
        this.#scalarFrom = at;
        this.#beginValue(at, false);
      }
    }
    this.#forget(at);
    return found;
  }

  /** What a bare value at the very end is. Fails where the text ends within one. */
  end(): JsonValue[] {
    const found: JsonValue[] = [];
    this.#endScalar(this.#held, this.#held.length, found);
    if (this.#inString || this.#open.length > 0) throw new LakeError('bad-file', 'the text ends within a value');
    return found;
  }

  /** The value that the text ends within, as far as it goes. */
  get openValue(): (Partial<JsonValue> & { text: string }) | undefined {
    return this.#keepFrom < 0
      ? undefined
      : { text: this.#held.slice(this.#keepFrom), ...(this.#valueKey === undefined ? {} : { key: this.#valueKey }) };
  }

  /** Whether the path leads to what is open now, and values of it are wanted. */
  get #isHere(): boolean {
    const path = this.#path;
    if (path === undefined) return this.#open.length === 0;
    return (
      this.#open.length === path.length + 1 &&
      this.#open.every(({ key }, index) => index === 0 || key === path[index - 1])
    );
  }

  #beginValue(at: number, isKey: boolean): void {
    if (isKey || this.#depthOfValue >= 0 || !this.#isHere) return;
    this.#depthOfValue = this.#open.length;
    this.#keepFrom = at;
    this.#valueKey = this.#open.at(-1)?.isObject ? this.#open.at(-1)!.lastKey : undefined;
  }

  #endValue(text: string, end: number, found: JsonValue[]): void {
    if (this.#depthOfValue !== this.#open.length) return;
    const value = text.slice(this.#keepFrom, end).replace(/[\r\n]+/g, ' ');
    found.push({ text: value, ...(this.#valueKey === undefined ? {} : { key: this.#valueKey }) });
    this.#depthOfValue = -1;
    this.#keepFrom = -1;
  }

  #enter(isObject: boolean): void {
    const top = this.#open.at(-1);
    this.#open.push({ key: top?.isObject ? top.lastKey : undefined, isObject, lastKey: undefined });
    this.#isKeyNext = isObject;
    if (this.#isHere && this.#path !== undefined) this.wasMet = true;
  }

  #leave(isObject: boolean, text: string, end: number, found: JsonValue[]): void {
    const top = this.#open.pop();
    if (!top || top.isObject !== isObject)
      throw new LakeError('bad-file', `a ${isObject ? '}' : ']'} that nothing opens`);
    this.#isKeyNext = false;
    this.#endValue(text, end, found);
  }

  #endString(text: string, end: number, found: JsonValue[]): void {
    const top = this.#open.at(-1);
    if (this.#isKeyNext && top) {
      top.lastKey = keyOf(text.slice(this.#stringFrom, end));
      this.#stringFrom = -1;
      return;
    }
    this.#stringFrom = -1;
    this.#endValue(text, end, found);
  }

  #endScalar(text: string, end: number, found: JsonValue[]): void {
    if (this.#scalarFrom < 0) return;
    this.#scalarFrom = -1;
    this.#endValue(text, end, found);
  }

  /** What no value or key at hand needs. */
  #forget(at: number): void {
    const from = Math.min(
      this.#keepFrom < 0 ? at : this.#keepFrom,
      this.#stringFrom < 0 ? at : this.#stringFrom,
      this.#scalarFrom < 0 ? at : this.#scalarFrom,
    );
    if (at - from > MOST_CHARACTERS)
      throw new LakeError('limit', `a value is longer than ${MOST_CHARACTERS.toLocaleString('en')} characters`);
    this.#held = this.#held.slice(from);
    this.#at = at - from;
    const moved = (place: number) => (place < 0 ? place : place - from);
    this.#keepFrom = moved(this.#keepFrom);
    this.#stringFrom = moved(this.#stringFrom);
    this.#scalarFrom = moved(this.#scalarFrom);
  }
}

function keyOf(quoted: string): string {
  try {
    return JSON.parse(quoted) as string;
  } catch {
    throw new LakeError('bad-file', `the key ${quoted.slice(0, 80)} is not well-formed`);
  }
}

/** All values of a text that is at hand. */
export function valuesOf(text: string, path?: readonly string[]): JsonValue[] {
  const values = new JsonValues(path);
  return [...values.push(text), ...values.end()];
}
