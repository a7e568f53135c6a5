/**
 * 32-bit Roaring bitmaps in the portable format (RoaringFormatSpec, "Standard 32-bit Roaring Bitmap"): containers of
 * 2^16 values as sorted arrays, bitmaps or runs.
 */
import { LakeError } from '../errors';

const WITHOUT_RUNS = 12346;
const WITH_RUNS = 12347;
/** "If there are fewer than 4 containers and runs, no offset header." */
const NO_OFFSET_THRESHOLD = 4;
/** Containers of more values than this are bitmaps. */
const ARRAY_MOST = 4096;
const BITMAP_BYTES = 8192;

/** Reads one bitmap at `start`; hands each value, ascending, to `take` and returns where the bitmap ends. */
export function readRoaring(bytes: Uint8Array, start: number, take: (value: number) => void): number {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  let at = start;
  const need = (count: number) => {
    if (at + count > bytes.length) throw damaged(`it ends after ${bytes.length} bytes, where ${at + count} are expected`);
  };
  const u16 = () => {
    need(2);
    at += 2;
    return view.getUint16(at - 2, true);
  };
  need(4);
  const cookie = view.getUint32(at, true);
  at += 4;
  let containers: number;
  let runs: Uint8Array | undefined;
  if ((cookie & 0xffff) === WITH_RUNS) {
    containers = (cookie >>> 16) + 1;
    need(Math.ceil(containers / 8));
    runs = bytes.subarray(at, at + Math.ceil(containers / 8));
    at += runs.length;
  } else if (cookie === WITHOUT_RUNS) {
    need(4);
    containers = view.getUint32(at, true);
    at += 4;
    if (containers > 65536) throw damaged(`it claims ${containers} containers, where 65536 are the most`);
  } else throw damaged(`it begins with ${cookie}, which is no mark of a Roaring bitmap`);
  const heads: { high: number; count: number; isRun: boolean }[] = [];
  for (let i = 0; i < containers; i++) heads.push({ high: u16() * 65536, count: u16() + 1, isRun: runs !== undefined && ((runs[i >> 3]! >> (i & 7)) & 1) === 1 });
  if (heads.some((head, i) => i > 0 && head.high <= heads[i - 1]!.high)) throw damaged('its containers are not in order');
  if (!runs || containers >= NO_OFFSET_THRESHOLD) {
    need(containers * 4);
    at += containers * 4;
  }
  for (const { high, count, isRun } of heads) {
    if (isRun) readRuns(high);
    else if (count > ARRAY_MOST) readBits(high, count);
    else readArray(high, count);
  }
  return at;

  function readRuns(high: number): void {
    let last = -1;
    for (let left = u16(); left > 0; left--) {
      const first = u16();
      const end = first + u16();
      if (first <= last || end > 65535) throw damaged('its runs are not in order');
      for (let value = first; value <= end; value++) take(high + value);
      last = end;
    }
  }

  function readBits(high: number, count: number): void {
    need(BITMAP_BYTES);
    let found = 0;
    for (let byte = 0; byte < BITMAP_BYTES; byte++) {
      const bits = bytes[at + byte]!;
      for (let bit = 0; bits >> bit > 0; bit++) {
        if (((bits >> bit) & 1) === 0) continue;
        take(high + byte * 8 + bit);
        found++;
      }
    }
    if (found !== count) throw damaged(`a container holds ${found} values, where ${count} are claimed`);
    at += BITMAP_BYTES;
  }

  function readArray(high: number, count: number): void {
    let last = -1;
    for (let i = 0; i < count; i++) {
      const value = u16();
      if (value <= last) throw damaged('its values are not in order');
      take(high + value);
      last = value;
    }
  }
}

/** Writes ascending, different values; containers are arrays or bitmaps, whichever is smaller. */
export function writeRoaring(values: ArrayLike<number>): Uint8Array {
  const groups: { high: number; from: number; to: number }[] = [];
  for (let i = 0; i < values.length; i++) {
    const high = values[i]! >>> 16;
    const last = groups.at(-1);
    if (last?.high === high) last.to = i + 1;
    else groups.push({ high, from: i, to: i + 1 });
  }
  const sizeOf = ({ from, to }: { from: number; to: number }) => (to - from > ARRAY_MOST ? BITMAP_BYTES : (to - from) * 2);
  const headBytes = 8 + groups.length * 8;
  const bytes = new Uint8Array(headBytes + groups.reduce((sum, group) => sum + sizeOf(group), 0));
  const view = new DataView(bytes.buffer);
  view.setUint32(0, WITHOUT_RUNS, true);
  view.setUint32(4, groups.length, true);
  let at = headBytes;
  groups.forEach((group, index) => {
    const { high, from, to } = group;
    view.setUint16(8 + index * 4, high, true);
    view.setUint16(10 + index * 4, to - from - 1, true);
    view.setUint32(8 + groups.length * 4 + index * 4, at, true);
    for (let i = from; i < to; i++) {
      const low = values[i]! & 0xffff;
      if (to - from > ARRAY_MOST) bytes[at + (low >> 3)]! |= 1 << (low & 7);
      else view.setUint16(at + (i - from) * 2, low, true);
    }
    at += sizeOf(group);
  });
  return bytes;
}

function damaged(what: string): LakeError {
  return new LakeError('bad-file', `the bitmap of deleted rows is damaged: ${what}`);
}
