/** What a neighbouring trust keeps in its own object store: river gauges as Avro, rainfall as packed delimited text. */
import { writeAvro } from '../core/iceberg/avro';
import type { ObjectStore } from '../core/storage/object-store';
import { months } from './landing';
import { SeededIds } from './ports';

const GAUGES = ['Merrow Beck', 'Pell Burn', 'Otter Water'];
const SCHEMA = {
  type: 'record', name: 'reading', fields: [
    { name: 'gauge', type: 'string' },
    { name: 'read_at', type: { type: 'long', logicalType: 'timestamp-millis' } },
    { name: 'level_m', type: ['null', 'double'] },
    { name: 'flow_m3_s', type: ['null', 'double'] },
    { name: 'checked', type: 'boolean' },
  ],
};

/** Hourly readings, a file a gauge and month. */
export async function fillRiverWatch(store: ObjectStore, pack: (csv: string) => Promise<Uint8Array>): Promise<void> {
  for (const month of months('2026-01', 3)) {
    const start = Date.parse(`${month}-01T00:00:00Z`);
    const hours = Math.round((Date.parse(`${months(month, 2)[1]}-01T00:00:00Z`) - start) / 3_600_000);
    for (const [number, gauge] of GAUGES.entries()) {
      const ids = new SeededIds(start / 3_600_000 + number);
      const records = Array.from({ length: hours }, (_, hour) => {
        const draw = ids.snapshotId() % 1000;
        const level = Math.round((0.6 + number * 0.2 + 0.4 * Math.abs(Math.sin(hour / 90 + number)) + draw / 20_000) * 1000) / 1000;
        return { gauge, read_at: BigInt(start + hour * 3_600_000), level_m: draw === 7 ? null : level, flow_m3_s: draw < 20 ? null : Math.round(level * level * 42) / 10, checked: hour % 24 === 0 };
      });
      const sync = Uint8Array.from({ length: 16 }, () => ids.snapshotId() % 256);
      await store.put(`gauges/${month.replace('-', '/')}/${gauge.toLowerCase().replace(' ', '-')}.avro`, await writeAvro(SCHEMA as never, {}, records, sync));
    }
    const rain = new SeededIds(start / 3_600_000 + 77);
    const days = Array.from({ length: hours / 24 }, (_, day) => `${month}-${String(day + 1).padStart(2, '0')};${((rain.snapshotId() % 180) / 10).toFixed(1).replace('.', ',')};${rain.snapshotId() % 9 === 0 ? '-' : 'gauge hut'}`);
    await store.put(`rainfall/${month}.csv.zst`, await pack(`day;rain_mm;read_by\n${days.join('\n')}\n`));
  }
}
