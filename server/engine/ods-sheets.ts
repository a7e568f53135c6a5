/** The sheets of an OpenDocument spreadsheet (ODF 1.3, part 3: "Table cell content"), row by row from its XML. */
import { SaxesParser } from 'saxes';
import yauzl from 'yauzl';
import { LakeError } from '../../core/errors';

export interface Sheet {
  name: string;
  rows: string[][];
}

/** What is repeated beyond these is blank paper. */
const [MOST_ROWS, MOST_COLUMNS, MOST_CELLS] = [2_000_000, 20_000, 50_000_000];

export async function odsSheets(source: string): Promise<Sheet[]> {
  const file = await yauzl.openPromise(source, { lazyEntries: true, autoClose: false });
  try {
    for await (const entry of file.eachEntry()) {
      if (entry.fileName !== 'content.xml') continue;
      const sheets = new SheetReader();
      const decoder = new TextDecoder();
      for await (const chunk of await file.openReadStreamPromise(entry))
        sheets.write(decoder.decode(chunk as Buffer, { stream: true }));
      sheets.write(decoder.decode());
      return sheets.sheets;
    }
  } finally {
    file.close();
  }
  throw new LakeError('bad-file', 'it has no content.xml, so it is no OpenDocument spreadsheet');
}

class SheetReader {
  readonly sheets: Sheet[] = [];
  readonly #parser = new SaxesParser();
  #row: string[] = [];
  #rowRepeats = 1;
  #cell: { value: string | undefined; text: string; paragraphs: number; repeats: number } | undefined;
  /** Within a paragraph of a cell, and not in a note or drawing of it. */
  #depthOfText = 0;
  #beside = 0;
  #cells = 0;

  constructor() {
    this.#parser.on('error', (error) => {
      throw error;
    });
    this.#parser.on('opentag', ({ name, attributes }) => this.#open(name, attributes as Record<string, string>));
    this.#parser.on('text', (text) => this.#text(text));
    this.#parser.on('closetag', ({ name }) => this.#close(name));
  }

  write(text: string): void {
    this.#parser.write(text);
  }

  #open(name: string, given: Record<string, string>): void {
    switch (name) {
      case 'table:table':
        this.sheets.push({ name: given['table:name'] ?? `Sheet ${this.sheets.length + 1}`, rows: [] });
        break;
      case 'table:table-row':
        this.#row = [];
        this.#rowRepeats = Number(given['table:number-rows-repeated'] ?? 1);
        break;
      case 'table:table-cell':
      case 'table:covered-table-cell':
        this.#cell = {
          value: valueOf(given),
          text: '',
          paragraphs: 0,
          repeats: Number(given['table:number-columns-repeated'] ?? 1),
        };
        break;
      case 'office:annotation':
      case 'draw:frame':
        this.#beside++;
        break;
      case 'text:p':
        if (this.#cell && this.#beside === 0 && this.#cell.paragraphs++ > 0) this.#cell.text += '\n';
        this.#depthOfText++;
        break;
      case 'text:s':
        this.#text(' '.repeat(Math.min(10_000, Number(given['text:c'] ?? 1))));
        break;
      case 'text:tab':
        this.#text('\t');
        break;
      case 'text:line-break':
        this.#text('\n');
        break;
    }
  }

  #text(text: string): void {
    if (this.#cell && this.#depthOfText > 0 && this.#beside === 0) this.#cell.text += text;
  }

  #close(name: string): void {
    if (name === 'text:p') this.#depthOfText--;
    else if (name === 'office:annotation' || name === 'draw:frame') this.#beside--;
    else if (this.#cell && (name === 'table:table-cell' || name === 'table:covered-table-cell')) {
      const text = this.#cell.value ?? this.#cell.text;
      const repeats = text === '' ? Math.min(this.#cell.repeats, MOST_COLUMNS) : this.#cell.repeats;
      this.#count(text === '' ? 0 : repeats);
      for (let n = 0; n < repeats && this.#row.length < MOST_COLUMNS; n++) this.#row.push(text);
      this.#cell = undefined;
    } else if (name === 'table:table-row') this.#endRow();
  }

  #endRow(): void {
    const rows = this.sheets.at(-1)?.rows;
    if (!rows) return;
    while (this.#row.at(-1) === '') this.#row.pop();
    // Below the last row that holds something any number of blank ones may be said.
    const repeats = this.#row.length === 0 ? Math.min(this.#rowRepeats, MOST_ROWS) : this.#rowRepeats;
    this.#count(this.#row.length * (repeats - 1));
    if (rows.length + repeats > MOST_ROWS) {
      if (this.#row.length === 0) return;
      throw new LakeError('limit', `a sheet has more than ${MOST_ROWS.toLocaleString('en')} rows`);
    }
    for (let n = 0; n < repeats; n++) rows.push(this.#row);
  }

  #count(cells: number): void {
    this.#cells += cells;
    if (this.#cells > MOST_CELLS)
      throw new LakeError('limit', `it has more than ${MOST_CELLS.toLocaleString('en')} cells`);
  }
}

/** What a cell holds, where it is no text: numbers and times as they are, not as they are shown. */
function valueOf(given: Record<string, string>): string | undefined {
  switch (given['office:value-type']) {
    case 'float':
    case 'percentage':
    case 'currency':
      return given['office:value'];
    case 'boolean':
      return given['office:boolean-value'];
    case 'date':
      return given['office:date-value']?.replace(/T00:00:00(\.0+)?$/, '').replace('T', ' ');
    case 'time':
      return timeOf(given['office:time-value']);
    case 'string':
      return given['office:string-value'];
    default:
      return undefined;
  }
}

/** `PT09H30M00S` as a time of day; longer durations stay as they are. */
function timeOf(text: string | undefined): string | undefined {
  const [, hours, minutes, seconds] = /^PT(\d+)H(\d+)M(\d+(?:\.\d+)?)S$/.exec(text ?? '') ?? [];
  return hours === undefined || Number(hours) > 23
    ? text
    : `${hours.padStart(2, '0')}:${minutes!.padStart(2, '0')}:${seconds!.padStart(2, '0')}`;
}
