import { useRouter } from 'vue-router';
import { call } from '../api/client';
import { useAct } from './load';

/** Starts a crawl and goes to the page of its run. */
export function useCrawlStart() {
  const router = useRouter();
  const { busy, problem, run } = useAct();
  const start = (storage: string, folder: string) => run(async () => {
    const { runId } = await call<{ runId: number }>('/crawls', { body: { storage, folder } });
    await router.push(`/crawls/${runId}`);
  });
  return { busy, problem, start };
}
