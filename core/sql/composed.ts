/** A query put together from parts of the user's text and words of ours, with the way back for positions. */
import type { Range } from './change';
import type { SqlTree } from './statement';
import { checkWhole, type PartKind } from './whole-part';

export class Composed {
  #text = '';
  readonly #parts: { at: number; from: Range; kind: PartKind | 'name' }[] = [];

  constructor(readonly user: string) {}

  get text(): string {
    return this.#text;
  }

  words(text: string): this {
    this.#text += text;
    return this;
  }

  /** Adds a part of the user's text; the place that it has now is returned. A line break after it ends a comment in it. */
  part(range: Range, kind: PartKind | 'name'): Range {
    const start = this.#text.length;
    this.#parts.push({ at: start, from: range, kind });
    this.#text += `${this.user.slice(range.start, range.end)}\n`;
    return { start, end: start + range.end - range.start };
  }

  /** Fails when a part is not whole in itself. */
  async checkParts(tree: SqlTree): Promise<void> {
    for (const { from, kind } of this.#parts) if (kind !== 'name') await checkWhole(kind, this.user.slice(from.start, from.end), from.start, tree);
  }

  /** The place in the user's text of an offset in ours; that of the nearest part where it is none of the user's words. */
  originalPosition(offset: number): number {
    const part = this.#parts.findLast(({ at }) => at <= offset) ?? this.#parts[0];
    if (!part) return 0;
    return Math.min(part.from.start + Math.max(0, offset - part.at), part.from.end);
  }
}
