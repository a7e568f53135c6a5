/** Tries the catalog as an outside program would: with an independent client library of the protocol. */

export interface TryStep {
  what: string;
  words: string;
  isGood: boolean;
}

const SHOWN = 4;

export async function* tryCatalog(address: string, token: string, warehouse: string): AsyncGenerator<TryStep> {
  const { IcebergRestCatalog } = await import('iceberg-js');
  const catalog = new IcebergRestCatalog({ baseUrl: address, auth: { type: 'bearer', token }, ...(warehouse === '' ? {} : { catalogName: warehouse }) });
  const step = async <T>(what: string, work: () => Promise<T>, words: (answer: T) => string): Promise<[TryStep, T | undefined]> => {
    const started = performance.now();
    try {
      const answer = await work();
      return [{ what, words: `${words(answer)} (${Math.round(performance.now() - started)} ms)`, isGood: true }, answer];
    } catch (error) {
      return [{ what, words: error instanceof Error ? error.message : String(error), isGood: false }, undefined];
    }
  };
  const listOf = (names: readonly string[]) => `${names.slice(0, SHOWN).join(', ')}${names.length > SHOWN ? ` and ${names.length - SHOWN} more` : ''}`;
  const [listed, namespaces] = await step('List namespaces', () => catalog.listNamespaces(), (found) => (found.length === 0 ? 'none is granted to this token' : listOf(found.map((each) => each.namespace.join('.')))));
  yield listed;
  for (const namespace of namespaces ?? []) {
    const [tablesListed, tables] = await step(`List tables of ${namespace.namespace.join('.')}`, () => catalog.listTables(namespace), (found) => (found.length === 0 ? 'none' : listOf(found.map((each) => each.name))));
    yield tablesListed;
    const [table] = tables ?? [];
    if (!table) continue;
    const [loaded] = await step(`Load ${[...table.namespace, table.name].join('.')}`, () => catalog.loadTable(table), (metadata) => `format version ${metadata['format-version']}, ${metadata.snapshots?.length ?? 0} snapshots`);
    yield loaded;
    return;
  }
}
