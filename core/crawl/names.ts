import { baseName } from '../storage/paths';

/** A SQL-friendly name from a folder or file name: `bottle-sheets` → `bottle_sheets`. */
export function tableName(pathStep: string): string {
  const plain = pathStep.replace(/\.(gz|gzip|zst|zstd)$/i, '').replace(/\.[a-z0-9]{1,8}$/i, '');
  const name = plain.normalize('NFC').toLowerCase().replace(/[^\p{L}\p{N}]+/gu, '_').replace(/^_+|_+$/g, '');
  return name === '' ? 'table' : /^\d/.test(name) ? `t_${name}` : name;
}

/** Where a candidate would be registered: the first step of its path is the namespace, its folder the table. */
export function proposedName(root: string, storage: string): { namespace: string; name: string } {
  const steps = root.split('/').filter((step) => step !== '');
  const namespace = steps.length > 1 ? tableName(steps[0]!) : tableName(storage);
  return { namespace, name: tableName(steps.length === 0 ? storage : baseName(root)) };
}

