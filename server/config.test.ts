import { describe, expect, it } from 'vitest';
import { readConfig } from './config';

describe('settings', () => {
  it('have defaults that are safe', () => {
    const config = readConfig({}, []);
    expect(config).toMatchObject({ host: '127.0.0.1', port: 4780, engineMemory: '2GB', queryMillis: 300_000, demo: true, scale: 1 });
    expect(config.person).not.toBe('');
  });

  it('come from the environment and the command line', () => {
    expect(readConfig({ KIND_HARBOR_PORT: '9', KIND_HARBOR_PERSON: ' Ada ', KIND_HARBOR_ENGINE_MEMORY: '500 mb', KIND_HARBOR_QUERY_SECONDS: '1.5', OTHER: 'x' }, ['--empty', '--scale', '20']))
      .toMatchObject({ port: 9, person: 'Ada', engineMemory: '500MB', queryMillis: 1500, demo: false, scale: 20 });
  });

  it('are all complained of at once, without naming what the value was', () => {
    expect(() => readConfig({ KIND_HARBOR_PORT: '70000', KIND_HARBOR_ENGINE_THREADS: '0' }, ['--scale', 'many'])).toThrow(/KIND_HARBOR_PORT.*KIND_HARBOR_ENGINE_THREADS.*--scale needs a whole number/);
  });
});
