/** Records of a text that comes in parts. */
import { LakeError } from '../errors';
import { readRecords, type TextDialect, type TextRecord } from './records';

/** A record longer than this is a quote that nothing closes. */
const MOST_CHARACTERS = 4_000_000;

export class RecordStream {
  #rest = '';
  #skip: number;
  #lines = 0;

  constructor(
    readonly dialect: TextDialect,
    /** Lines to pass over. */
    skip: number,
  ) {
    this.#skip = skip;
  }

  /** The records that end in what came so far. */
  push(part: string): TextRecord[] {
    return this.#take(this.#rest + part, false);
  }

  end(): TextRecord[] {
    return this.#take(this.#rest, true);
  }

  #take(given: string, isEnd: boolean): TextRecord[] {
    let text = given;
    while (this.#skip > 0) {
      const end = /\r\n|\n|\r(?!$)/.exec(text);
      if (!end) {
        this.#rest = isEnd ? '' : text;
        return [];
      }
      text = text.slice(end.index + end[0].length);
      this.#skip--;
      this.#lines++;
    }
    // A line end may come in two parts.
    const held = !isEnd && text.endsWith('\r') ? '\r' : '';
    const { records, used, lines } = readRecords(held === '' ? text : text.slice(0, -1), this.dialect, { isCut: !isEnd });
    this.#rest = text.slice(used);
    if (this.#rest.length > MOST_CHARACTERS) throw new LakeError('bad-file', `Line ${this.#lines + lines + 1}: a record is longer than ${MOST_CHARACTERS / 1e6} million characters; a quote that opens there is closed nowhere.`, { line: this.#lines + lines + 1 });
    const before = this.#lines;
    this.#lines += lines;
    return records.map((record) => ({ ...record, line: record.line + before }));
  }
}
