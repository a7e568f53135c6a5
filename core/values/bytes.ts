/** Sizes in words: `128 MB` is 128 million bytes. */
const UNITS = { b: 1, kb: 1e3, mb: 1e6, gb: 1e9, tb: 1e12, pb: 1e15, kib: 2 ** 10, mib: 2 ** 20, gib: 2 ** 30 };
const SHOWN = ['kB', 'MB', 'GB', 'TB', 'PB'];

/** Undefined where the text says no size. */
export function parseBytes(text: string): number | undefined {
  const match = /^(\d+(?:\.\d+)?)\s*([kmgtp]?i?b)$/i.exec(text.trim());
  const unit = match && UNITS[match[2]!.toLowerCase() as keyof typeof UNITS];
  return unit ? Math.round(Number(match[1]) * unit) : undefined;
}

/** Three significant digits: 38.4 MB, 874 kB. Powers of a thousand. */
export function formatBytes(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`;
  let value = bytes;
  let unit = -1;
  do {
    value /= 1000;
    unit++;
  } while (Number(value.toPrecision(3)) >= 1000 && unit < SHOWN.length - 1);
  return `${Number(value.toPrecision(3))} ${SHOWN[unit]}`;
}
