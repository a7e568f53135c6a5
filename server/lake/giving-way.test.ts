import { describe, expect, it } from 'vitest';
import { GivingWay } from './giving-way';

const soon = <T>(work: Promise<T>) => Promise.race([work.then(() => 'went on'), new Promise((resolve) => setImmediate(() => setImmediate(() => resolve('waits'))))]);

describe('giving way to an outside writer', () => {
  it('waits after a refusal until it has come again, for as long as it took at most', async () => {
    let now = 1000;
    const ways = new GivingWay(() => now);
    expect(await soon(ways.wait('t'))).toBe('went on');
    ways.began('t', 'engine');
    now += 4000;
    ways.refused('t', 'engine');
    const waiting = ways.wait('t');
    expect([await soon(waiting), await soon(ways.wait('other'))]).toEqual(['waits', 'went on']);
    ways.done('t');
    expect(await soon(waiting)).toBe('went on');
    ways.refused('t', 'engine');
    now += 60_000;
    expect(await soon(ways.wait('t'))).toBe('went on');
  });

  it('leaves as long to others before it gives way again', async () => {
    let now = 1000;
    const ways = new GivingWay(() => now);
    ways.refused('t', 'engine');
    now += 300;
    ways.refused('t', 'engine');
    expect(await soon(ways.wait('t'))).toBe('went on');
    now += 300;
    ways.refused('t', 'engine');
    expect(await soon(ways.wait('t'))).toBe('waits');
  });
});
