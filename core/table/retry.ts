/**
 * The one policy by which a commit that lost a race is tried again: at once the first time, then after a random part of a
 * wait that doubles ("full jitter"), so that many writers do not meet again and again.
 */
import { LakeError } from '../errors';
import type { Clock } from '../storage/object-store';

export interface RetryPolicy {
  /** Tries in all. */
  attempts: number;
  /** Longest wait before the second retry, in milliseconds; it doubles with each further one. */
  firstWaitMs: number;
  mostWaitMs: number;
}

/** A commit alone: what it writes was made before, so a try costs a file or two. */
export const COMMIT_RETRIES: RetryPolicy = { attempts: 200, firstWaitMs: 2, mostWaitMs: 200 };
/** A whole statement, worked out anew from the newest version. */
export const STATEMENT_RETRIES: RetryPolicy = { attempts: 12, firstWaitMs: 20, mostWaitMs: 2_000 };

/** How long to wait before the try after `failed` failed ones, in milliseconds. */
export function waitAfter(failed: number, { firstWaitMs, mostWaitMs }: RetryPolicy, random: () => number = Math.random): number {
  return failed < 2 ? 0 : random() * Math.min(mostWaitMs, firstWaitMs * 2 ** (failed - 2));
}

/** Calls `attempt` until it gives something else than undefined. Fails with `conflict` when it never does. */
export async function retrying<T>(name: string, policy: RetryPolicy, clock: Clock, attempt: (number: number) => Promise<T | undefined>): Promise<T> {
  for (let number = 0; number < policy.attempts; number++) {
    const wait = waitAfter(number, policy);
    if (wait > 0) await clock.sleep?.(wait);
    const result = await attempt(number);
    if (result !== undefined) return result;
  }
  throw new LakeError('conflict', `${name}: other writers committed ${policy.attempts} times in a row first. Try again.`, { table: name });
}
