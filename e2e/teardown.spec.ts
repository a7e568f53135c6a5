/** Last of all: a managed table goes with its files, when it is confirmed by name. */
import { existsSync, readdirSync } from 'node:fs';
import path from 'node:path';
import { expect, test } from '@playwright/test';

const folder = path.resolve('.cache/e2e-home/lake/tern-bay/refined/water_limits');
const files = () => (existsSync(folder) ? readdirSync(folder, { recursive: true, encoding: 'utf8', withFileTypes: true }).filter((entry) => entry.isFile()).length : 0);

test('dropping a managed Delta table removes its files, and nothing before it is confirmed', async ({ request }) => {
  const before = files();
  expect(before).toBeGreaterThan(2);
  const unsure = await request.delete('/api/catalog/refined/water_limits');
  expect([unsure.status(), (await unsure.json()).detail]).toEqual([409, expect.stringContaining('Confirm with its full name')]);
  expect(files()).toBe(before);
  expect(await (await request.delete('/api/catalog/refined/water_limits?confirm=refined.water_limits')).json()).toMatchObject({ unregistered: 'refined.water_limits', files: before });
  expect(files()).toBe(0);
});
