/** The server's events, for pages that follow what happens. */
import { onScopeDispose, ref } from 'vue';
import type { Job } from '../api/types';

export type LiveEvent = { topic: 'job'; job: Job } | { topic: 'catalog' } | { topic: 'table'; name: string } | { topic: 'receipt'; id: string } | { topic: 'crawl'; runId: number } | { topic: 'storage'; storage: string; folder: string } | { topic: 'columns'; name: string };

const listeners = new Set<(event: LiveEvent) => void>();
const reconnects = new Set<() => void>();
export const connected = ref(true);
let source: EventSource | undefined;

function connect(): void {
  source = new EventSource('/api/events');
  source.onopen = () => {
    // Also at the first time: what changed between a page's first look and now was not told.
    for (const each of reconnects) each();
    connected.value = true;
  };
  source.onerror = () => (connected.value = false);
  source.onmessage = (message) => {
    const event = JSON.parse(message.data as string) as LiveEvent;
    for (const each of listeners) each(event);
  };
}

/** Calls back on events while the component lives, and whenever the connection opens, since events before that were missed. */
export function useLive(onEvent: (event: LiveEvent) => void, onReconnect: () => void = () => undefined): void {
  if (!source) connect();
  listeners.add(onEvent);
  reconnects.add(onReconnect);
  onScopeDispose(() => {
    listeners.delete(onEvent);
    reconnects.delete(onReconnect);
  });
}
