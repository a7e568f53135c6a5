import { baseName } from '../storage/paths';
import { plainName } from './kinds';

/** The name up to its first dot: `orders.csv.gz` is `orders`. */
export function nameStem(path: string): string {
  return baseName(path).replace(/\..*$/, '');
}

/** What all of the names begin with. There is one name at least. */
export function commonStart(names: readonly string[]): string {
  const [first = ''] = names;
  let length = 0;
  while (length < first.length && names.every((name) => name[length] === first[length])) length++;
  return first.slice(0, length);
}

/** A SQL-friendly name from a folder or file name: `bottle-sheets` → `bottle_sheets`. */
export function tableName(pathStep: string): string {
  const plain = plainName(pathStep).replace(/\.[a-z0-9]{1,8}$/i, '');
  const name = plain.normalize('NFC').toLowerCase().replace(/[^\p{L}\p{N}]+/gu, '_').replace(/^_+|_+$/g, '');
  return name === '' ? 'table' : /^\d/.test(name) ? `t_${name}` : name;
}
