/** Sizes in words: `128 MB` is 128 million bytes. */
const UNITS = { b: 1, kb: 1e3, mb: 1e6, gb: 1e9, kib: 2 ** 10, mib: 2 ** 20, gib: 2 ** 30 };

/** Undefined where the text says no size. */
export function parseBytes(text: string): number | undefined {
  const match = /^(\d+(?:\.\d+)?)\s*([kmg]?i?b)$/i.exec(text.trim());
  const unit = match && UNITS[match[2]!.toLowerCase() as keyof typeof UNITS];
  return unit ? Math.round(Number(match[1]) * unit) : undefined;
}

export function formatBytes(bytes: number): string {
  for (const [name, size] of [['GB', 1e9], ['MB', 1e6], ['kB', 1e3]] as const) {
    if (bytes >= size) return `${Number((bytes / size).toPrecision(3))} ${name}`;
  }
  return `${bytes} B`;
}
