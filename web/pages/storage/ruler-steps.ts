/** The steps of a path pattern as choices. */
import type { RulerColumn, RulerStep } from '../../../core/crawl/path-ruler';
import { countText, plural } from '../../design/format';

export type StepChoice = 'this' | 'any' | 'column';

export function choiceOf(text: string): StepChoice {
  if (/\{[^{}]+\}/.test(text)) return 'column';
  return text.includes('*') ? 'any' : 'this';
}

/** The column that a step holds, without the part of a date that it is. */
export function columnOfStep(text: string): string | undefined {
  return /\{([^{}:]+)(?::\w+)?\}/.exec(text)?.[1];
}

export function withChoice(texts: readonly string[], steps: readonly RulerStep[], at: number, choice: StepChoice): string[] {
  const step = steps[at]!;
  const text = choice === 'this' ? step.asThis : choice === 'any' ? step.asAny : step.asColumn;
  return texts.map((each, index) => (index === at ? text : each));
}

/** A date's name stands in each of its steps. */
export function withName(texts: readonly string[], at: number, name: string): string[] {
  const old = columnOfStep(texts[at]!);
  return texts.map((text) => (columnOfStep(text) === old ? text.replace(`{${old}`, `{${name}`) : text));
}

/** "90 values, 2 missing". */
export function gapText(column: RulerColumn): string {
  const values = plural(column.values, column.type === 'date' ? 'day' : 'value');
  if (column.missing === null) return values;
  return `${values}, ${column.missing === 0 ? 'none' : countText(column.missing)} missing`;
}
