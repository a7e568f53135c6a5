/**
 * Delimited text cut into records, by the rules of RFC 4180 and leniently beyond them: any line end, any delimiter, text
 * around quotes. What the engine's reader does with the same options gives the same cells.
 */
export interface TextDialect {
  /** One or more characters; `RUNS` for any number of spaces or tabs. */
  delimiter: string;
  /** One character, '' for none. */
  quote: string;
  /** What makes a quote part of the value; the quote itself where it is doubled. */
  escape: string;
  /** Lines that begin with it are passed over; '' for none. */
  comment: string;
}

export interface TextRecord {
  /** Its first line, from 1. */
  line: number;
  cells: string[];
  /** Whether any of its cells stood in quotes. */
  quoted: boolean;
}

/** Fields stand apart by blanks, however many. */
export const RUNS = ' +';

export interface Records {
  records: TextRecord[];
  /** Characters and lines that the records took. */
  used: number;
  lines: number;
  /** The line on which a quote opens that nothing closes. */
  openQuote?: number;
}

/** All records of the text but blank lines. With `isCut` the text goes on elsewhere, so its last record is left out. */
export function readRecords(text: string, dialect: TextDialect, { most = Infinity, isCut = false }: { most?: number; isCut?: boolean } = {}): Records {
  const cutter = new Cutter(text, dialect);
  const records: TextRecord[] = [];
  let [used, lines] = [0, 0];
  while (records.length < most && cutter.more) {
    const record = cutter.next();
    if (isCut && (cutter.openQuote !== undefined || (!cutter.more && !cutter.ended))) break;
    [used, lines] = [cutter.at, cutter.lines];
    if (record) records.push(record);
  }
  return { records, used, lines, ...(cutter.openQuote === undefined ? {} : { openQuote: cutter.openQuote }) };
}

class Cutter {
  #at = 0;
  #line = 1;
  /** Whether the last record came to its line end. */
  ended = true;
  openQuote: number | undefined;

  constructor(
    readonly text: string,
    readonly dialect: TextDialect,
  ) {
    if (text.startsWith('\ufeff')) this.#at = 1;
  }

  get at(): number {
    return this.#at;
  }

  get lines(): number {
    return this.#line - 1;
  }

  get more(): boolean {
    return this.#at < this.text.length;
  }

  /** Undefined for a blank line or a comment. */
  next(): TextRecord | undefined {
    const { comment, delimiter } = this.dialect;
    const line = this.#line;
    if (comment !== '' && this.text.startsWith(comment, this.#at)) {
      this.#restOfLine();
      return undefined;
    }
    if (delimiter === RUNS) return cutAtRuns(this.#restOfLine(), line, this.dialect);
    const cells: string[] = [];
    let quoted = false;
    for (;;) {
      const isQuoted = this.#toQuote();
      cells.push(isQuoted ? this.#quoted() : this.#plain());
      quoted ||= isQuoted;
      if (!this.text.startsWith(delimiter, this.#at) || !this.more) break;
      this.#at += delimiter.length;
    }
    this.#lineEnd();
    return cells.length === 1 && cells[0]!.trim() === '' && !quoted ? undefined : { line, cells, quoted };
  }

  /** Whether the field stands in quotes; blanks before them are passed over. */
  #toQuote(): boolean {
    const { quote, delimiter } = this.dialect;
    if (quote === '') return false;
    let at = this.#at;
    while ((this.text[at] === ' ' || this.text[at] === '\t') && !this.text.startsWith(delimiter, at)) at++;
    if (this.text[at] !== quote) return false;
    this.#at = at;
    return true;
  }

  #plain(): string {
    const { text } = this;
    const [first] = this.dialect.delimiter;
    let at = this.#at;
    for (; at < text.length; at++) {
      const char = text[at];
      if (char === '\n' || char === '\r') break;
      if (char === first && text.startsWith(this.dialect.delimiter, at)) break;
    }
    const cell = text.slice(this.#at, at);
    this.#at = at;
    return cell;
  }

  #quoted(): string {
    const { text } = this;
    const { quote, escape } = this.dialect;
    const [start, startLine] = [this.#at, this.#line];
    let cell = '';
    let at = start + 1;
    for (;;) {
      const char = text[at];
      if (char === undefined) {
        // Nothing closes it: it is a mark like any other, and the line goes on.
        this.openQuote ??= startLine;
        this.#at = start;
        this.#line = startLine;
        return this.#plain();
      }
      if (escape !== quote && char === escape && (text[at + 1] === quote || text[at + 1] === escape)) {
        cell += text[at + 1];
        at += 2;
      } else if (char === quote && escape === quote && text[at + 1] === quote) {
        cell += quote;
        at += 2;
      } else if (char === quote) {
        break;
      } else {
        if (char === '\n' || (char === '\r' && text[at + 1] !== '\n')) this.#line++;
        cell += char;
        at++;
      }
    }
    this.#at = at + 1;
    return cell + this.#plain();
  }

  #restOfLine(): string {
    const { text } = this;
    let at = this.#at;
    while (at < text.length && text[at] !== '\n' && text[at] !== '\r') at++;
    const rest = text.slice(this.#at, at);
    this.#at = at;
    this.#lineEnd();
    return rest;
  }

  #lineEnd(): void {
    const char = this.text[this.#at];
    this.ended = char !== undefined;
    if (char === undefined) return;
    this.#at += char === '\r' && this.text[this.#at + 1] === '\n' ? 2 : 1;
    this.#line++;
  }
}

function cutAtRuns(text: string, line: number, { quote }: TextDialect): TextRecord | undefined {
  if (text.trim() === '') return undefined;
  const cells: string[] = [];
  let quoted = false;
  const pattern = quote === '' ? /[^ \t]+/g : new RegExp(`${quote}([^${quote}]*)${quote}(?=[ \\t]|$)|[^ \\t]+`, 'g');
  for (const match of text.matchAll(pattern)) {
    quoted ||= match[1] !== undefined;
    cells.push(match[1] ?? match[0]);
  }
  return { line, cells, quoted };
}

/** The cells as a line of RFC 4180; one empty cell stands in quotes, since it would be a blank line. */
export function csvLine(cells: readonly string[]): string {
  const line = cells.map((cell) => (/[",\r\n\0]|^\s|\s$/.test(cell) ? `"${cell.replaceAll('"', '""')}"` : cell)).join(',');
  return `${line === '' ? '""' : line}\n`;
}
