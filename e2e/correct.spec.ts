/** What a crawl guessed is put right before it counts. */
import { expect, test } from '@playwright/test';

test('columns without names get theirs, a wrong type is refused with its line, and the table reads as corrected', async ({ page, request }) => {
  const { runId } = await (await request.post('/api/crawls', { data: { storage: 'tern-bay', folder: 'landing/buoy-logs/2026/01' } })).json();
  await page.goto(`/crawls/${runId}`);
  const evidence = page.getByRole('region', { name: 'Evidence of the chosen finding' });
  await evidence.getByRole('button', { name: 'correct it' }).click();
  await evidence.getByLabel('Namespace').fill('corrected');
  await evidence.getByLabel('Table').fill('january_logs');
  await evidence.getByLabel('Name of field_1').fill('logged_at');
  await evidence.getByLabel('Name of field_3').fill('event');
  await evidence.getByLabel('Type of field_3').selectOption('bigint');
  await evidence.getByRole('button', { name: 'Correct it', exact: true }).click();
  await expect(evidence.getByRole('alert')).toContainText(/line \d+: "[A-Z]+" in event is not a bigint/);
  await evidence.getByLabel('Type of field_3').selectOption('varchar');
  await evidence.getByLabel('Type of field_5').selectOption('decimal(18,2)');
  await evidence.getByRole('button', { name: 'Correct it', exact: true }).click();
  await expect(evidence.getByRole('region', { name: 'Statement' })).toContainText('CREATE TABLE corrected.january_logs');
  await page.getByRole('button', { name: 'Register 1' }).click();
  await expect(page.getByText('Registered corrected.january_logs.')).toBeVisible();
  const answer = await (await request.post('/api/query', { data: { sql: "SELECT event, count(*) > 0, min(logged_at) IS NOT NULL, typeof(any_value(field_5)) FROM corrected.january_logs WHERE day = 5 GROUP BY event ORDER BY event" } })).json();
  expect(answer.rows).toEqual(['FIX', 'SEND', 'SLEEP', 'WAKE'].map((event) => [event, true, true, 'DECIMAL(18,2)']));
  expect(answer.receipt.tables[0].files).toMatchObject({ total: 1488, read: 48 });
});

test('a column that is found by its name cannot be renamed, and two cannot share one', async ({ request }) => {
  const { runId } = await (await request.post('/api/crawls', { data: { storage: 'tern-bay', folder: 'landing/sightings' } })).json();
  await expect.poll(async () => (await (await request.get(`/api/crawl-runs/${runId}`)).json()).finishedAt).not.toBeNull();
  const [finding] = (await (await request.get(`/api/crawl-runs/${runId}`)).json()).findings;
  const correct = async (columns: unknown[]) => (await (await request.post(`/api/findings/${finding.id}/correct`, { data: { columns } })).json()).detail;
  expect(await correct([{ name: 'what', rename: 'animal' }])).toContain('"what" is found by its name');
  expect(await correct([{ name: 'nope', type: 'bigint' }])).toContain('There is no column "nope"');
  expect(await correct([{ name: 'what', type: 'geometry' }])).toContain('"geometry" is not one this product knows');
});

test('what is left out always stays left out in later crawls', async ({ page, request }) => {
  await page.goto('/storage/tern-bay/landing/scratch');
  await page.getByRole('button', { name: 'Crawl this folder' }).click();
  await page.getByRole('radiogroup', { name: 'Decision on landing.scratch_crew' }).getByRole('radio', { name: 'leave out' }).click();
  await page.getByRole('button', { name: 'landing.scratch_crew' }).click();
  await page.getByRole('button', { name: 'leave out always' }).click();
  await expect(page.getByRole('button', { name: '1 always left out' })).toBeVisible();
  await page.getByRole('button', { name: 'Crawl again' }).click();
  await expect(page.getByText('0 undecided')).toBeVisible();
  await page.getByRole('button', { name: '1 always left out' }).click();
  await page.getByRole('button', { name: 'landing.scratch_crew' }).click();
  await page.getByRole('button', { name: 'only this time' }).click();
  const { runId } = await (await request.post('/api/crawls', { data: { storage: 'tern-bay', folder: 'landing/scratch' } })).json();
  await expect.poll(async () => (await (await request.get(`/api/crawl-runs/${runId}`)).json()).findings.find((each: { name: string }) => each.name === 'scratch_crew')?.decision).toBe('register');
});
