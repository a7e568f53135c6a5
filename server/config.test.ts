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

  it('let other machines in only where every request must carry a token', () => {
    for (const host of ['0.0.0.0', '192.168.1.4', 'lake.example']) {
      expect(() => readConfig({ KIND_HARBOR_HOST: host }, [])).toThrow(/KIND_HARBOR_NEEDS_TOKEN=true/);
      expect(readConfig({ KIND_HARBOR_HOST: host, KIND_HARBOR_NEEDS_TOKEN: 'true' }, [])).toMatchObject({ host, needsToken: true });
    }
    for (const host of ['127.0.0.1', '127.3.2.1', 'localhost']) expect(readConfig({ KIND_HARBOR_HOST: host }, [])).toMatchObject({ host, needsToken: false });
  });

  it('are all complained of at once, without naming what the value was', () => {
    expect(() => readConfig({ KIND_HARBOR_PORT: '70000', KIND_HARBOR_ENGINE_THREADS: '0' }, ['--scale', 'many'])).toThrow(/KIND_HARBOR_PORT.*KIND_HARBOR_ENGINE_THREADS.*--scale needs a whole number/);
  });
});
