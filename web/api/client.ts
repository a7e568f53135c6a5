/** Calls to the server. A failed one throws a Problem that pages can show as it is. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    detail: string,
    readonly more: { hint?: string; path?: string; line?: number; position?: number; kind?: string } = {},
  ) {
    super(detail);
  }
}

export async function call<T>(path: string, options: { method?: string; body?: unknown; signal?: AbortSignal } = {}): Promise<T> {
  const { method = options.body === undefined ? 'GET' : 'POST', body, signal } = options;
  let response: Response;
  try {
    response = await fetch(`/api${path}`, {
      method,
      ...(signal ? { signal } : {}),
      ...(body === undefined ? {} : { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } }),
    });
  } catch (error) {
    if ((error as Error).name === 'AbortError') throw error;
    throw new Problem(0, 'No answer', 'The server does not answer. Is it still running?');
  }
  const answer = (await response.json().catch(() => ({}))) as Record<string, unknown>;
  if (!response.ok) throw new Problem(response.status, String(answer.title ?? 'Failed'), String(answer.detail ?? `The server answered ${response.status}.`), answer);
  return answer as T;
}

/** A path for a URL with each step escaped. */
export function escapePath(path: string): string {
  return path.split('/').map(encodeURIComponent).join('/');
}

/** Where a storage's folder, or the file in it, is shown. */
export function storageLink(storage: string, folder = '', file?: string): { path: string; query: Record<string, string> } {
  return { path: `/storage/${encodeURIComponent(storage)}${folder === '' ? '' : `/${escapePath(folder)}`}`, query: file === undefined ? {} : { file } };
}

/** Where a table is opened; `name` is its full name. */
export function tableLink(name: string): string {
  // A namespace may have dots in its name; a table's has none.
  const cut = name.lastIndexOf('.');
  return `/tables/${encodeURIComponent(name.slice(0, cut))}/${encodeURIComponent(name.slice(cut + 1))}`;
}
