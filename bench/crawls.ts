/** Crawling the demo's landing folder: the first time, and again when nothing changed. */
import { repeated, timed, timeText, millis, type Claim } from './lib/measure';
import type { Running } from './lib/server';

async function crawl(server: Running): Promise<void> {
  const { runId } = await server.post<{ runId: number }>('/crawls', { storage: 'tern-bay', folder: 'landing' });
  while (!(await server.get<{ finishedAt: string | null }>(`/crawl-runs/${runId}`)).finishedAt) await new Promise((resolve) => setTimeout(resolve, 20));
}

/** `server` must not have crawled before. */
export async function benchCrawls(server: Running): Promise<Claim[]> {
  // The stand-ins start with the server and would share its two cores.
  while (!(await server.get<{ name: string }[]>('/storages')).some((each) => each.name === 'fleet-office')) await new Promise((resolve) => setTimeout(resolve, 200));
  const first = await timed(() => crawl(server));
  const again = await repeated(() => crawl(server));
  return [
    { what: 'First crawl of the demo, 5,168 files', limit: 'at most 5 s', measured: millis(first), reference: 'fixed; one run, since it is the first, once the stand-ins have started', holds: first <= 5000 },
    { what: 'Crawl again, unchanged', limit: 'at most 1 s', measured: timeText(again), reference: 'fixed', holds: again.median <= 1000 },
  ];
}
