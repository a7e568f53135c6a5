/** Files that look like copies of others beside them: by the name that a desktop gives a copy, and by their size. Common practice. */
import type { ObjectInfo } from '../storage/object-store';

const COPY = /^(?<start>.*?)(?: \(\d+\)| - copy(?: \(\d+\))?| copy(?: \d+)?|[-_.]copy\d*)(?<ending>(?:\.[^./]+)*)$/iu;

/** Each with the file that it seems to be a copy of. */
export function likelyCopies(files: readonly ObjectInfo[]): { path: string; of: string }[] {
  const bytes = new Map(files.map((file) => [file.path, file.bytes]));
  return files.flatMap(({ path, bytes: own }) => {
    const parts = COPY.exec(path)?.groups;
    const original = parts && `${parts.start}${parts.ending}`;
    return original !== undefined && bytes.get(original) === own ? [{ path, of: original }] : [];
  });
}
