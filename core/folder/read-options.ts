/** How plain files become rows. Everything a guess decides is here, so that it can be shown and corrected. */
export type ReadOptions = CsvOptions | JsonOptions | { format: 'parquet' };

export interface CsvOptions {
  format: 'csv';
  /** One or more characters between fields. */
  delimiter: string;
  /** Whether the first line names the columns. */
  header: boolean;
  /** '' for none. */
  quote: string;
  escape: string;
  /** Lines to pass over before the header or first row. */
  skip: number;
  /** Text that stands for a missing value. */
  nullText: string;
  compression: 'none' | 'gzip';
}

export interface JsonOptions {
  format: 'json';
  /** One object a line, or one array of objects a file. */
  shape: 'lines' | 'array';
  compression: 'none' | 'gzip';
}

export function describeOptions(options: ReadOptions): string {
  switch (options.format) {
    case 'parquet':
      return 'Parquet';
    case 'json':
      return options.shape === 'lines' ? 'JSON, one object a line' : 'JSON, an array of objects';
    case 'csv':
      return `text, ${delimiterName(options.delimiter)} between fields, ${options.header ? 'header' : 'no header'}${options.compression === 'gzip' ? ', gzip' : ''}`;
  }
}

export function delimiterName(delimiter: string): string {
  const names: Record<string, string> = { ',': 'comma', '|': 'pipe', ';': 'semicolon', '\t': 'tab', ' ': 'space', ':': 'colon' };
  return names[delimiter] ?? `"${delimiter}"`;
}
