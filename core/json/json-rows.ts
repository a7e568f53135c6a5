/** The values of a JSON text as rows: an object a line, each value with the digits that it has. */
import type { JsonOptions } from '../folder/read-options';
import { stepsOf } from './json-layout';
import { JsonValues, valuesOf, type JsonValue } from './json-values';

/** The lines of a text that comes in parts. Fails where the text is none that the options fit. */
export class JsonRows {
  readonly #values: JsonValues;
  #isFirst = true;

  constructor(readonly options: JsonOptions) {
    this.#values = new JsonValues(
      options.shape === 'sequence' || options.shape === 'lines' ? undefined : stepsOf(options.at),
    );
  }

  push(text: string): string {
    return this.#lines(this.#values.push(text));
  }

  end(): string {
    return this.#lines(this.#values.end());
  }

  /** Whether there was anything where the rows should be. */
  get wasMet(): boolean {
    return this.#values.wasMet || ['sequence', 'lines'].includes(this.options.shape);
  }

  #lines(values: readonly JsonValue[]): string {
    const rows = this.options.shape === 'cells' && this.options.header && this.#isFirst ? values.slice(1) : values;
    if (values.length > 0) this.#isFirst = false;
    return rows.map((value) => `${this.#row(value)}\n`).join('');
  }

  #row({ key, text }: JsonValue): string {
    const { shape, names, key: keyName } = this.options;
    const isObject = text.startsWith('{');
    switch (shape) {
      case 'keyed': {
        const own = `${JSON.stringify(keyName)}:${JSON.stringify(key ?? '')}`;
        if (!isObject) return `{${own},"value":${text}}`;
        const rest = text.slice(1).trimStart();
        return rest.startsWith('}') ? `{${own}}` : `{${own},${rest}`;
      }
      case 'cells':
        return text.startsWith('[')
          ? objectOf(valuesOf(text, []).map((cell, index) => [names[index] ?? `column_${index + 1}`, cell.text]))
          : objectOf([[names[0] ?? 'value', text]]);
      case 'features':
        return isObject ? featureRow(text) : `{"value":${text}}`;
      default:
        return isObject ? text : `{"value":${text}}`;
    }
  }
}

/** A GeoJSON feature (RFC 7946): its properties, its identifier, and the geometry as text, since geometries differ in depth. */
function featureRow(feature: string): string {
  const members = new Map(valuesOf(feature, []).map(({ key, text }) => [key!, text]));
  const properties = members.get('properties')?.startsWith('{') ? valuesOf(members.get('properties')!, []) : [];
  const taken = new Set(properties.map(({ key }) => key!.toLowerCase()));
  const own = (name: string, text: string | undefined): [string, string][] =>
    text === undefined ? [] : [[taken.has(name) ? `feature_${name}` : name, text]];
  const geometry = members.get('geometry');
  return objectOf([
    ...own('id', members.get('id')),
    ...properties.map(({ key, text }): [string, string] => [key!, text]),
    ...own('geometry', geometry === undefined || geometry === 'null' ? 'null' : JSON.stringify(geometry)),
  ]);
}

function objectOf(members: readonly (readonly [name: string, text: string])[]): string {
  return `{${members.map(([name, text]) => `${JSON.stringify(name)}:${text}`).join(',')}}`;
}
