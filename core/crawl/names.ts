/** A SQL-friendly name from a folder or file name: `bottle-sheets` → `bottle_sheets`. */
export function tableName(pathStep: string): string {
  const plain = pathStep.replace(/\.(gz|gzip|zst|zstd)$/i, '').replace(/\.[a-z0-9]{1,8}$/i, '');
  const name = plain.normalize('NFC').toLowerCase().replace(/[^\p{L}\p{N}]+/gu, '_').replace(/^_+|_+$/g, '');
  return name === '' ? 'table' : /^\d/.test(name) ? `t_${name}` : name;
}
