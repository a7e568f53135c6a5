import { vectorId, type VectorDescriptor } from './deletion-vector';
import { filePath } from './log';

/** What tells two entries of the log apart: the path, percent-decoded once, and the id of its vector ("Action Reconciliation"). */
export function fileKey({ path, deletionVector }: { path: string; deletionVector?: VectorDescriptor }): string {
  return deletionVector ? `${filePath(path)}\n${vectorId(deletionVector)}` : filePath(path);
}
