/** A WRITE as a form holds it, from its SQL and back. */
import { quoteText } from '../../../core/sql/tokens';
import { readWrite } from '../../../core/sql/write';
import { formatBytes, parseBytes } from '../../../core/values/bytes';
import { readGoal, type FileGoal } from '../../../core/write/plan';

/** The part that says how rows are cut into files; empty texts are what follows by itself. */
export interface FilePlanForm {
  goal: FileGoal['kind'];
  /** Of `size`, as `128 MB`. */
  size: string;
  /** Of `at-most`. */
  files: number;
  by: string;
  mechanism: string;
  sort: string;
}

export interface WriteForm extends FilePlanForm {
  storage: string;
  folder: string;
  query: string;
  format: string;
  compression: string;
  header: boolean;
  delimiter: string;
  folders: string;
  names: string;
  leaveOut: string;
  existing: string;
}

export function emptyPlan(): FilePlanForm {
  return { goal: 'size', size: '128 MB', files: 10, by: '', mechanism: '', sort: '' };
}

export function emptyWrite(storage: string, query: string): WriteForm {
  return { ...emptyPlan(), storage, folder: 'written', query, format: 'parquet', compression: '', header: true, delimiter: ',', folders: '', names: '', leaveOut: '', existing: 'refuse' };
}

/** Options of the plan by their names; those that say nothing new are left out. */
export function planOptions({ goal, size, files, by, mechanism, sort }: FilePlanForm): Record<string, string> {
  const text = goal === 'size' ? `about ${size.trim()}` : goal === 'at-most' ? `at most ${files}` : goal === 'one' ? 'one' : 'per key';
  const isCut = goal === 'size' || goal === 'at-most';
  return { files: text, ...(goal !== 'one' && by.trim() !== '' ? { by: by.trim() } : {}), ...(isCut && mechanism !== '' ? { mechanism } : {}), ...(sort.trim() === '' ? {} : { sort: sort.trim() }) };
}

export function planForm(options: Readonly<Record<string, string>>): FilePlanForm {
  const plan = { ...emptyPlan(), by: options.by ?? '', mechanism: options.mechanism ?? '', sort: options.sort ?? '' };
  if (options.files === undefined) return plan;
  const goal = readGoal(options.files);
  return { ...plan, goal: goal.kind, ...(goal.kind === 'size' ? { size: formatBytes(goal.bytes) } : {}), ...(goal.kind === 'at-most' ? { files: goal.files } : {}) };
}

export function sizeProblem({ goal, size }: FilePlanForm): string | undefined {
  return goal === 'size' && parseBytes(size) === undefined ? 'A size is a number with its unit, such as 128 MB.' : undefined;
}

/** Fails with the position of what is not understood. */
export function formOf(sql: string): WriteForm {
  const { to, options, source } = readWrite(sql);
  const cut = to.place.indexOf(':');
  return {
    ...emptyWrite(to.place.slice(0, cut), sql.slice(source.start, source.end)), ...planForm(options), folder: to.place.slice(cut + 1), format: options.format ?? 'parquet', compression: options.compression ?? '',
    header: options.header?.toLowerCase() !== 'false', delimiter: options.delimiter ?? ',', folders: options.folders ?? '', names: options.names ?? '', leaveOut: options.leave_out ?? '', existing: options.existing ?? 'refuse',
  };
}

/** `toDatabase`: of a table of a database only what becomes of its rows can be said. */
export function sqlOf(form: WriteForm, toDatabase = false): string {
  if (toDatabase) return `WRITE TO ${quoteText(`${form.storage}:${form.folder.trim()}`)}${form.existing === 'refuse' ? '' : ` WITH (existing = ${quoteText(form.existing)})`}\nAS ${form.query.trim()}`;
  const isText = form.format === 'csv';
  const options: Record<string, string> = {
    format: form.format, ...(form.compression === '' ? {} : { compression: form.compression }), ...(isText && !form.header ? { header: 'false' } : {}), ...(isText && form.delimiter !== ',' ? { delimiter: form.delimiter } : {}), ...planOptions(form),
    ...(form.folders.trim() === '' ? {} : { folders: form.folders.trim() }), ...(form.names.trim() === '' ? {} : { names: form.names.trim() }), ...(form.leaveOut.trim() === '' ? {} : { leave_out: form.leaveOut.trim() }), ...(form.existing === 'refuse' ? {} : { existing: form.existing }),
  };
  return `WRITE TO ${quoteText(`${form.storage}:${form.folder.trim()}`)} WITH (\n${Object.entries(options).map(([name, value]) => `  ${name} = ${quoteText(value)}`).join(',\n')}\n)\nAS ${form.query.trim()}`;
}
