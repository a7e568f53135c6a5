/** Writing rows to files of a folder. */
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { nameOfIdentity } from '../access/access';
import type { Route } from '../http/routes';
import type { Services } from '../services';
import { id, sqlText } from './schemas';

export function writeRoutes({ writes, jobs, queries }: Services): Route[] {
  const statement = { sql: sqlText.required() };
  return [
    {
      method: 'post', path: '/writes/forecast', right: 'asked-inside', summary: 'What a WRITE or a CREATE TABLE AS would make: folders, files, rows, sizes and costs', answer: 'The forecast, of all rows or of a stated sample',
      body: Joi.object({ ...statement, sampleRows: Joi.number().integer().min(100).max(10_000_000) }),
      handle: ({ body, as }) => writes.forecast(body.sql as string, as, body.sampleRows as number | undefined),
    },
    {
      method: 'post', path: '/writes/trial', right: 'asked-inside', summary: 'Write some of the rows, through the same steps, to a folder of their own', answer: 'Where they are, and each file with rows and bytes',
      body: Joi.object({ ...statement, rows: Joi.number().integer().min(1).max(100_000).default(1000), sampled: Joi.boolean().default(false), id }),
      handle: ({ body, as }) => writes.trial({ sql: body.sql as string, as, rows: body.rows as number, isSampled: body.sampled as boolean, ...(body.id ? { id: body.id as string } : {}) }),
    },
    {
      method: 'post', path: '/writes', right: 'asked-inside', summary: 'Run a WRITE as a job that can be watched and stopped', answer: 'The job; its result has each file, beside what was foreseen',
      body: Joi.object(statement),
      handle: async ({ body, as }) => {
        const sql = body.sql as string;
        // What is wrong with it is told at once.
        await writes.plan(sql, as);
        const { job } = await jobs.start('write', `Write files: ${sql.replace(/\s+/g, ' ').slice(0, 80)}`, nameOfIdentity(as), async (context) => {
          const stop = () => void queries.cancel(context.id);
          context.signal.addEventListener('abort', stop);
          try {
            const { wrote, done } = await writes.run({ id: context.id, sql, as, signal: context.signal, onProgress: (rows, of) => context.progress(rows, of, `${rows} of ${of} rows`) });
            context.log(done);
            return { ...wrote, files: wrote.files.slice(0, SHOWN_FILES), fileCount: wrote.files.length, done };
          } catch (error) {
            if (context.signal.aborted) throw new LakeError('cancelled', 'Stopped. Nothing was written.');
            throw error;
          } finally {
            context.signal.removeEventListener('abort', stop);
          }
        });
        return { jobId: job.id };
      },
    },
  ];
}

/** In the job's record. */
const SHOWN_FILES = 2000;
