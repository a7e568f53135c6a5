/**
 * A writer in a process of its own, for crash tests: `ROOT FORMAT NAME APPENDS [DIE_AT]`. Appends one-row files to the
 * table under ROOT; with DIE_AT it kills itself at that call of its store, as a power cut would.
 */
import { append as appendDelta } from '../../core/delta/operations';
import { DeltaTable } from '../../core/delta/table';
import { append as appendIceberg } from '../../core/iceberg/operations';
import { FilePointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import type { ObjectStore } from '../../core/storage/object-store';
import { testPorts, writtenFile } from '../../core/testing/ports';
import { DiskStore } from '../storage/disk-store';

const [root, format, name, appends, dieAt] = process.argv.slice(2) as [string, string, string, string, string | undefined];
const disk = new DiskStore(root);
let calls = 0;
const store = new Proxy(disk as ObjectStore, {
  get(target, key) {
    const value = Reflect.get(target, key) as unknown;
    if (typeof value !== 'function') return value;
    return (...args: unknown[]) => {
      if (++calls === Number(dieAt)) process.kill(process.pid, 'SIGKILL');
      return (value as (...args: unknown[]) => unknown).apply(target, args);
    };
  },
});
for (let n = 0; n < Number(appends); n++) {
  const ports = { ...testPorts(Number(name) * 100 + n), clock: { now: () => Date.now() } };
  const file = writtenFile(`t/${name}-${n}.parquet`, 1, 1);
  if (format === 'delta') await appendDelta(new DeltaTable(store, 't', 't'), [file], ports);
  else await appendIceberg(new IcebergTable(store, 't', 't', new FilePointer(store, 't')), [file], ports);
}
process.send?.({ calls });
