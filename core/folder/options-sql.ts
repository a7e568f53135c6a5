import { quoteText } from '../sql/tokens';
import { rulerText, type RulerColumn } from './column-ruler';
import { fullOptions, type ReadOptions } from './read-options';

/** The options as SQL that says the same: `files('…', format => 'csv', delimiter => '|')`; usual values are left out. */
export function optionsAsSql(options: ReadOptions): string {
  const usual = fullOptions({ format: options.format }) as unknown as Record<string, unknown>;
  const snake = (name: string) => name.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`);
  const literal = (value: unknown): string => (Array.isArray(value) ? `[${value.map(literal).join(', ')}]` : typeof value === 'string' ? quoteText(value) : String(value));
  return Object.entries(options).filter(([name, value]) => name === 'format' || JSON.stringify(value) !== JSON.stringify(usual[name]))
    .map(([name, value]) => `${snake(name)} => ${literal(name === 'columns' ? rulerText(value as RulerColumn[]) : name === 'forms' ? JSON.stringify(value) : value)}`).join(', ');
}

/** `files('tern-bay:landing/x', format => 'csv', …)`. */
export function filesAsSql(place: string, options: ReadOptions): string {
  return `files(${quoteText(place)}, ${optionsAsSql(options)})`;
}
