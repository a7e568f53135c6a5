/** One server to a data folder: a lock file that names the process, honoured only while that process lives. */
import { closeSync, openSync, readFileSync, rmSync, writeSync } from 'node:fs';
import path from 'node:path';
import { ConfigError } from './config';

export function lockHome(home: string): () => void {
  const file = path.join(home, 'server.lock');
  for (let attempt = 0; attempt < 3; attempt++) {
    try {
      const handle = openSync(file, 'wx');
      writeSync(handle, `${process.pid} ${startOf(process.pid)}\n`);
      closeSync(handle);
      return () => rmSync(file, { force: true });
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error;
      const holder = holderOf(file);
      if (holder !== undefined) throw new ConfigError(`The data folder ${home} is in use by another server (process ${holder}). Stop that one, or set KIND_HARBOR_HOME to another folder.`);
      rmSync(file, { force: true });
    }
  }
  throw new ConfigError(`The data folder ${home} could not be locked.`);
}

/** The living process that holds the lock, or undefined for a lock left behind by a crash. */
function holderOf(file: string): number | undefined {
  const [pid, start] = readFileSync(file, 'utf8').trim().split(' ');
  const number = Number(pid);
  try {
    process.kill(number, 0);
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'EPERM') return undefined;
  }
  return start === startOf(number) && number !== process.pid ? number : undefined;
}

/** When a process started, so that a number used again is not mistaken for it; empty where the system does not tell. */
function startOf(pid: number): string {
  try {
    const stat = readFileSync(`/proc/${pid}/stat`, 'utf8');
    return stat.slice(stat.lastIndexOf(')') + 2).split(' ')[19] ?? '';
  } catch {
    return '';
  }
}
