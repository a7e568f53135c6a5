/** Crawls that run by themselves. A time that passed while the server was down is not made up for. */
import { Cron } from 'croner';
import type { Logger } from 'pino';
import { LakeError } from '../../core/errors';
import type { Identity } from '../access/access';
import { listCrawls } from '../catalog/crawls';
import type { Database } from '../catalog/database';
import type { Crawler } from './crawler';

export class Schedules {
  #crons: Cron[] = [];

  constructor(
    readonly database: Database,
    readonly crawler: Crawler,
    readonly as: Identity,
    readonly log: Logger,
  ) {}

  /** Takes the schedules as they are now; called at start and after every change of one. */
  async refresh(): Promise<void> {
    this.stop();
    for (const crawl of await listCrawls(this.database)) {
      const { schedule } = crawl.definition;
      if (schedule === null) continue;
      this.#crons.push(new Cron(schedule, { timezone: 'UTC', protect: true, unref: true, catch: (error) => this.log.error({ err: error }, `the schedule of ${crawl.name}`) }, async () => {
        const { finished } = await this.crawler.start(crawl.id, this.as, 'schedule');
        await finished;
      }));
    }
  }

  stop(): void {
    for (const cron of this.#crons) cron.stop();
    this.#crons = [];
  }
}

/** Fails with what is wrong with it. */
export function checkSchedule(schedule: string): void {
  try {
    new Cron(schedule, { timezone: 'UTC', paused: true }).stop();
  } catch (error) {
    throw new LakeError('bad-request', `"${schedule}" is no schedule: ${(error as Error).message.replace(/^CronPattern: /, '')}. Write minute, hour, day, month and weekday: 0 2 * * *.`);
  }
}
