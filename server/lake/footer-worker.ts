/** Reads Parquet footers of files of this machine, away from the thread that answers requests. */
import { faultWords } from '../../core/fault-words';
import { closeSync, openSync, readSync } from 'node:fs';
import { parentPort } from 'node:worker_threads';
import { footerStart, parseFooter, type Footer } from '../../core/parquet/footer';

export interface FooterAsk {
  id: number;
  /** Local path and size of each file. */
  files: [path: string, bytes: number][];
}

/** `shape` is the place of the schema in `shapes`. */
export type FooterAnswer = { rows: number; shape: number } | { problem: string };

export interface FooterAnswers {
  id: number;
  answers: FooterAnswer[];
  shapes: string[];
}

/** A footer is mostly smaller, so one read is enough. */
const TAIL = 16 * 1024;
const buffer = new Uint8Array(TAIL);

parentPort!.on('message', ({ id, files }: FooterAsk) => {
  const shapes = new Map<string, number>();
  const answers: FooterAnswer[] = files.map(([file, bytes]) => {
    try {
      const { rows, schema } = readFooter(file, bytes);
      const known = shapes.get(schema) ?? shapes.size;
      shapes.set(schema, known);
      return { rows, shape: known };
    } catch (error) {
      return { problem: faultWords(error) };
    }
  });
  parentPort!.postMessage({ id, answers, shapes: [...shapes.keys()] } satisfies FooterAnswers);
});

function readFooter(file: string, size: number): Footer {
  const handle = openSync(file, 'r');
  try {
    const tailStart = Math.max(0, size - TAIL);
    const tail = buffer.subarray(0, readSync(handle, buffer, 0, size - tailStart, tailStart));
    const start = footerStart(size, tail);
    if (start >= tailStart) return parseFooter(tail.subarray(start - tailStart));
    const whole = new Uint8Array(size - start);
    readSync(handle, whole, 0, whole.length, start);
    return parseFooter(whole);
  } finally {
    closeSync(handle);
  }
}
