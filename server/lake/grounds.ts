import { labelOf, type ColumnGuess, type OtherWay } from '../../core/text/column-forms';
import { typeName } from '../../core/schema/type-names';

/** On what a column's type rests. Nothing where its file tells the type. */
export interface Grounds {
  why?: string;
  /** With the way that was chosen. Types as SQL has them. */
  others?: OtherWay[];
  /** Two ways of reading fit every value. */
  isAmbiguous?: boolean;
}

/** Why a column of text has its type, by the file that tells most of it, and what else it could be. */
export function groundsOf(guesses: readonly ColumnGuess[] | undefined): Grounds {
  const telling = [...(guesses ?? [])].sort((a, b) => b.values - a.values)[0];
  if (!telling) return {};
  const files = guesses!.length > 1 ? `, in the largest of ${guesses!.length} files` : '';
  return {
    why: `${telling.why}${files}`,
    others: [{ ...telling, label: labelOf(telling), misfits: 0, examples: [] }, ...telling.others].map(
      ({ type, form, label, misfits, examples }) => ({
        type: typeName(type),
        ...(form ? { form } : {}),
        label,
        misfits,
        examples,
      }),
    ),
    ...(guesses!.every((each) => each.isAmbiguous === true || each.values === 0) && telling.isAmbiguous
      ? { isAmbiguous: true }
      : {}),
  };
}
