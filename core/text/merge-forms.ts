/** Forms of one column in several files, put together: what is decided holds for all of them. */
import type { LogicalType } from '../schema/types';
import { sameType } from '../schema/types';
import type { ColumnGuess } from './column-forms';
import type { Form, NumberForm, ValueForm } from './value-forms';

/**
 * One form that reads the values of all files, or undefined where there is none: a decimal comma here and a point there,
 * the day first here and the month first there. `type` is what all files' types widen to.
 */
export function mergeForms(guesses: readonly ColumnGuess[], type: LogicalType): { form: ValueForm | undefined } | undefined {
  if (type.kind === 'string') return { form: undefined };
  const missing = [...new Set(guesses.flatMap((guess) => guess.form?.missing ?? []))];
  const number = mergeNumbers(guesses.map((guess) => guess.form?.number));
  if (number === null) return undefined;
  const formats = mergeFormats(guesses, type);
  if (formats === null) return undefined;
  const months = [...new Set(guesses.flatMap((guess) => guess.form?.months ?? []))];
  if (months.length > 1) return undefined;
  const booleans = guesses.flatMap((guess) => guess.form?.booleans ?? []);
  const form: ValueForm = {
    ...(missing.length > 0 ? { missing } : {}), ...(number ? { number } : {}), ...(formats && formats.length > 0 ? { formats } : {}), ...(months[0] === undefined ? {} : { months: months[0] }),
    ...(booleans.length > 0 ? { booleans: { yes: [...new Set(booleans.flatMap(({ yes }) => yes))], no: [...new Set(booleans.flatMap(({ no }) => no))] } } : {}),
  };
  return { form: Object.keys(form).length > 0 ? form : undefined };
}

/** Null where two of them cannot be one. Plain numbers go with any that have a point. */
function mergeNumbers(forms: readonly (NumberForm | undefined)[]): NumberForm | undefined | null {
  const special = forms.filter((form) => form !== undefined);
  if (special.length === 0) return undefined;
  const decimals = new Set(forms.map((form) => form?.decimal ?? '.'));
  const groups = new Set(special.map((form) => form.group).filter((group) => group !== ''));
  const marks = new Set(special.flatMap((form) => form.marks));
  if (decimals.size > 1 || groups.size > 1 || marks.size > 1) return null;
  return { decimal: special[0]!.decimal, group: [...groups][0] ?? '', marks: [...marks], parentheses: special.some((form) => form.parentheses) };
}

/** A format that all files have among those that fit them, else all that were chosen, unless day and month change places. */
function mergeFormats(guesses: readonly ColumnGuess[], type: LogicalType): string[] | undefined | null {
  const dated = guesses.filter((guess) => sameType(guess.type, type));
  const chosen = dated.map((guess) => guess.form?.formats);
  if (chosen.every((formats) => formats === undefined)) return undefined;
  const fitting = dated.map((guess) => [guess, ...guess.others].filter((each: Form) => sameType(each.type, type) && each.form?.formats).map((each) => each.form!.formats!.join('\n')));
  const common = fitting[0]?.find((format) => fitting.every((each) => each.includes(format)));
  if (common !== undefined) return common.split('\n');
  const all = [...new Set(chosen.flatMap((formats) => formats ?? ['%Y-%m-%d']))];
  const places = all.map((format) => format.replace(/%d/g, '%m'));
  return new Set(places).size < places.length || chosen.includes(undefined) ? null : all;
}
