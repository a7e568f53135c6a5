/** A new user defines tables by form and by SQL, and sees what was made. */
import { expect, test } from '@playwright/test';

test.afterAll(async ({ request }) => {
  await request.delete('/api/namespaces/workshop?files=remove&confirm=workshop');
});

test('by form, with the SQL beside it; a changed text changes the form', async ({ page, request }) => {
  await page.goto('/define');
  await page.getByLabel('Namespace').fill('workshop');
  await page.getByRole('button', { name: 'Make it' }).click();
  await page.getByLabel('Name', { exact: true }).fill('clean_bottles');
  await page.getByLabel('Start from').selectOption('another table');
  await page.getByLabel('Which table').selectOption('refined.bottles');
  await page.getByRole('button', { name: 'Take its columns' }).click();
  await expect(page.getByLabel('Name of column 9')).toHaveValue('method');
  await page.getByRole('button', { name: 'nothing; divide them' }).click();
  await page.getByLabel('Transform 1').selectOption('month');
  await page.getByRole('combobox', { name: 'Divided by column 1' }).fill('sampled_at');
  await page.getByLabel('Column 1 is part of the key').check();
  const text = page.getByLabel('The definition as SQL');
  await expect(text).toContainText('PARTITION BY (month(sampled_at))');
  await expect(text).toContainText('PRIMARY KEY (bottle_id)');

  await page.getByLabel('Type of column 2').fill('wibble');
  await expect(page.getByRole('alert')).toContainText('The type "wibble" is not one');
  await expect(page.getByRole('button', { name: 'Make the table' })).toBeDisabled();
  await page.getByLabel('Type of column 2').fill('varchar');
  await text.fill("CREATE TABLE workshop.clean_bottles (\n  bottle_id varchar NOT NULL,\n  oxygen double COMMENT 'mg/l',\n  PRIMARY KEY (bottle_id)\n)\nWITH (format = 'iceberg', format-version = 3)");
  await expect(page.getByLabel('Description of column 2')).toHaveValue('mg/l');
  await expect(page.getByLabel('Value of property 1')).toHaveValue('3');
  await page.getByRole('button', { name: 'Make the table' }).click();
  await expect(page).toHaveURL(/workshop\/clean_bottles/);
  await expect(page.getByRole('heading', { name: 'clean_bottles' }).first()).toBeVisible();
  const { rows } = await (await request.post('/api/query', { data: { sql: 'SHOW COLUMNS OF workshop.clean_bottles' } })).json();
  expect(rows).toEqual([['bottle_id', 'varchar', true, true, null], ['oxygen', 'double', false, false, 'mg/l']]);
});

test('from files with their rows, as a Delta table; a name that is taken is told', async ({ page, request }) => {
  await page.goto('/define?namespace=workshop');
  await page.getByLabel('Name', { exact: true }).fill('clean_bottles');
  await page.getByLabel('Format').selectOption('Delta');
  await page.getByLabel('Start from').selectOption('files');
  await page.getByRole('textbox', { name: 'files' }).fill('tern-bay:landing/bottle-sheets');
  await page.getByRole('button', { name: 'And its rows' }).click();
  await expect(page.getByLabel('The definition as SQL')).toContainText('AS SELECT * FROM "tern-bay:landing/bottle-sheets"');
  await page.getByRole('button', { name: 'Make the table' }).click();
  await expect(page.getByRole('region', { name: 'The same as SQL' }).getByRole('alert')).toContainText('workshop.clean_bottles exists in the catalog already');
  await page.getByLabel('Name', { exact: true }).fill('sheets');
  await page.getByRole('button', { name: 'Make the table' }).click();
  await expect(page).toHaveURL(/workshop\/sheets/);
  const count = async (from: string) => (await (await request.post('/api/query', { data: { sql: `SELECT count(*) FROM ${from}` } })).json()).rows[0][0] as number;
  expect(await count('workshop.sheets')).toBe(await count('"tern-bay:landing/bottle-sheets"'));
});

test('as plain Parquet files from a query, cut by a plan that is seen before', async ({ page, request }) => {
  await page.goto('/define?namespace=workshop');
  await page.getByLabel('Name', { exact: true }).fill('by_site');
  await page.getByLabel('Format').selectOption('parquet');
  await expect(page.getByRole('alert')).toContainText('it needs a query that fills it');
  await page.getByLabel('Start from').selectOption('a query');
  await page.getByLabel('a query', { exact: true }).fill('SELECT site, oxygen_mg_l FROM refined.bottles');
  await page.getByRole('button', { name: 'And its rows' }).click();
  await page.getByRole('button', { name: 'as the format has them; say how' }).click();
  await page.getByLabel('The goal').selectOption('per-key');
  await page.getByLabel('The key').fill('site');
  await expect(page.getByLabel('The definition as SQL')).toContainText("files = 'per key',  by = 'site'");
  await page.getByRole('button', { name: 'See what it makes' }).click();
  await expect(page.getByRole('heading', { name: /^8 files, about .* rows$/ })).toBeVisible();
  await page.getByRole('button', { name: 'Make the table' }).click();
  await expect(page).toHaveURL(/workshop\/by_site/);
  const { rows } = await (await request.post('/api/query', { data: { sql: 'SHOW FILES OF workshop.by_site' } })).json();
  expect(rows).toHaveLength(8);
});

test('from a JSON schema', async ({ page }) => {
  await page.goto('/define?namespace=workshop');
  await page.getByLabel('Start from').selectOption('a JSON schema');
  await page.getByRole('textbox', { name: 'a JSON schema' }).fill('{"properties": {"id": {"type": "integer"}, "tags": {"type": "array", "items": {"type": "string"}}}, "required": ["id"]}');
  await page.getByRole('button', { name: 'Take its columns' }).click();
  await expect(page.getByLabel('Type of column 2')).toHaveValue('varchar[]');
  await expect(page.getByLabel('Column 1 is required')).toBeChecked();
});

for (const [format, words] of [['Iceberg', 'append'], ['Delta', 'CONVERT']] as const) {
  test(`a folder of Parquet files becomes a table in place (${format})`, async ({ page, request }) => {
    const sql = async (text: string) => (await (await request.post('/api/query', { data: { sql: text } })).json()) as { rows: unknown[][] };
    const folder = `made/plain-${format.toLowerCase()}`;
    await request.post('/api/storages/fleet-office/landing', { data: { to: { storage: 'tern-bay', folder }, tables: ['fleet.visits'] } });
    await expect.poll(async () => (await request.get(`/api/storages/tern-bay/list?path=${folder}/postgres/fleet/visits`)).status()).toBe(200);
    await page.goto(`/storage/tern-bay/${folder}/postgres/fleet/visits`);
    const adopt = page.getByRole('form', { name: 'Make it a table in place' });
    await expect(adopt).toContainText('1 Parquet file of this folder');
    await adopt.getByLabel('Namespace').fill('workshop');
    await adopt.getByLabel('Name', { exact: true }).fill(`visits_${format}`);
    await adopt.getByLabel('Format').selectOption(format);
    await adopt.getByRole('button', { name: 'Make it a table' }).click();
    await expect(page).toHaveURL(new RegExp(`workshop/visits_${format}`));
    expect((await sql(`SELECT count(*) FROM workshop.visits_${format}`)).rows).toEqual([[5000]]);
    await sql(`DELETE FROM workshop.visits_${format} WHERE minutes > 40`);
    const { rows } = await sql(`SHOW HISTORY OF workshop.visits_${format}`);
    expect(rows.map((each) => each[2])).toContain(words);
    expect((await sql(`SELECT count(*) FROM workshop.visits_${format} FOR SYSTEM_VERSION AS OF ${format === 'Delta' ? 0 : 1}`)).rows).toEqual([[5000]]);
    await request.delete(`/api/catalog/workshop/visits_${format}?files=remove&confirm=workshop.visits_${format}`);
  });
}
