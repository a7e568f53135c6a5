import { useRouter } from 'vue-router';
import { call } from '../api/client';
import { useAct } from './load';

/** Starts a crawl and goes to the page of its run. */
export function useCrawlStart() {
  const router = useRouter();
  const act = useAct();
  const go = (start: () => Promise<{ runId: number }>) => act.run(async () => {
    const { runId } = await start();
    await router.push(`/crawls/${runId}`);
  });
  /** A folder, by the usual rules. */
  const start = (storage: string, folder: string) => go(() => call('/crawls', { body: { storage, folder } }));
  /** A crawl that is defined already. */
  const again = (crawl: number) => go(() => call(`/crawls/${crawl}/run`, { body: {} }));
  return { busy: act.busy, problem: act.problem, start, again };
}
