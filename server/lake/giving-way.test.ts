import { describe, expect, it } from 'vitest';
import { GivingWay } from './giving-way';

const turns = async () => {
  for (let n = 0; n < 4; n++) await new Promise((resolve) => setImmediate(resolve));
};
/** A statement of ours: whether it has begun, and how it is ended. */
function statement(ways: GivingWay, table: string) {
  const state = { hasBegun: false, end: () => undefined as void };
  const done = ways.inTurn(table, () => new Promise<void>((resolve) => {
    state.hasBegun = true;
    state.end = resolve;
  }));
  return Object.assign(state, { done });
}

describe('giving way to an outside writer', () => {
  it('lets what runs finish before it is shown the table, and holds what comes later until it has committed', async () => {
    const ways = new GivingWay();
    ways.committed('t', 'engine');
    const running = statement(ways, 't');
    let isShown = false;
    const shown = ways.looks('t', 'engine').then(() => {
      isShown = true;
    });
    const [later, elsewhere] = [statement(ways, 't'), statement(ways, 'other')];
    await turns();
    expect([isShown, later.hasBegun, elsewhere.hasBegun]).toEqual([false, false, true]);
    running.end();
    await shown;
    expect(later.hasBegun).toBe(false);
    ways.committed('t', 'engine');
    await turns();
    expect(later.hasBegun).toBe(true);
    // It is their turn before the writer is shown the table again.
    let isShownAgain = false;
    void ways.looks('t', 'engine').then(() => {
      isShownAgain = true;
    });
    await turns();
    expect(isShownAgain).toBe(false);
    later.end();
    await turns();
    expect(isShownAgain).toBe(true);
  });

  it('does nothing for who only reads, and ends by itself', async () => {
    let now = 1000;
    const ways = new GivingWay(() => now);
    await ways.looks('t', 'reader');
    expect(statement(ways, 't').hasBegun).toBe(true);
    // Who looks again and again without a commit may be one that never gets through.
    for (let n = 0; n < 3; n++) await ways.looks('u', 'engine');
    expect(statement(ways, 'u').hasBegun).toBe(true);
    void ways.looks('u', 'engine');
    const held = statement(ways, 'u');
    await turns();
    expect(held.hasBegun).toBe(false);
    now += 60_000;
    const after = statement(ways, 'u');
    await turns();
    expect(after.hasBegun).toBe(true);
  });
});
