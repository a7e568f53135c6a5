/** Checks that JSON from a file has the parts that code relies on, and says in words which part has not. */

/** `text`, `number` (bigint too), `boolean`, a list of one shape, a map to one shape (`{ '*': … }`), or an object whose keys may end in `?`. */
export type Shape = 'text' | 'number' | 'boolean' | 'object' | readonly [Shape] | { readonly [key: string]: Shape };

/** What is wrong with `value`, or undefined: `expected "snapshots[0].timestamp-ms" to be a number`. */
export function shapeProblem(value: unknown, shape: Shape, name: string): string | undefined {
  return fits(value, shape) ? undefined : problemIn(value, shape, name);
}

/** Without making the names of parts, which is what most of them never need. */
function fits(value: unknown, shape: Shape): boolean {
  if (shape === 'text') return typeof value === 'string';
  if (shape === 'number') return typeof value === 'number' || typeof value === 'bigint';
  if (shape === 'boolean') return typeof value === 'boolean';
  if (isList(shape)) return Array.isArray(value) && value.every((each) => fits(each, shape[0]));
  if (typeof value !== 'object' || value === null || Array.isArray(value)) return false;
  if (shape === 'object') return true;
  const held = value as Record<string, unknown>;
  if ('*' in shape) return Object.values(held).every((each) => fits(each, shape['*']!));
  for (const wanted in shape) {
    const isOptional = wanted.endsWith('?');
    const part = held[isOptional ? wanted.slice(0, -1) : wanted];
    if (isOptional && (part === undefined || part === null)) continue;
    if (!fits(part, shape[wanted]!)) return false;
  }
  return true;
}

function problemIn(value: unknown, shape: Shape, name: string): string | undefined {
  if (shape === 'text') return typeof value === 'string' ? undefined : expected(name, 'text');
  if (shape === 'number') return typeof value === 'number' || typeof value === 'bigint' ? undefined : expected(name, 'a number');
  if (shape === 'boolean') return typeof value === 'boolean' ? undefined : expected(name, 'true or false');
  if (isList(shape)) {
    if (!Array.isArray(value)) return expected(name, 'a list');
    return first(value.entries(), ([index, each]) => problemIn(each, shape[0], `${name}[${index}]`));
  }
  if (typeof value !== 'object' || value === null || Array.isArray(value)) return expected(name, 'an object');
  if (shape === 'object') return undefined;
  const held = value as Record<string, unknown>;
  const inside = (key: string) => (name === '' ? key : `${name}.${key}`);
  if ('*' in shape) return first(Object.keys(held), (key) => problemIn(held[key], shape['*']!, inside(key)));
  return first(Object.keys(shape), (wanted) => {
    const key = wanted.replace(/\?$/, '');
    const isAbsent = held[key] === undefined || held[key] === null;
    return isAbsent && wanted !== key ? undefined : problemIn(held[key], shape[wanted]!, inside(key));
  });
}

function expected(name: string, what: string): string {
  return `expected "${name}" to be ${what}`;
}

function isList(shape: Shape): shape is readonly [Shape] {
  return Array.isArray(shape);
}

function first<T>(items: Iterable<T>, problem: (item: T) => string | undefined): string | undefined {
  for (const item of items) {
    const found = problem(item);
    if (found !== undefined) return found;
  }
  return undefined;
}
