import fc from 'fast-check';
import { expect, it } from 'vitest';
import { jsonLayout, pointerOf, stepsOf } from './json-layout';
import { JsonValues } from './json-values';

/** JSON.parse as the reference. */
it('cuts out of any text, wherever it is broken into parts, the values that a parser finds under a path', () => {
  const anything = fc.jsonValue({ maxDepth: 4 });
  fc.assert(
    fc.property(
      fc.oneof(fc.array(anything), fc.dictionary(fc.string(), anything)),
      fc.array(fc.string(), { maxLength: 3 }),
      fc.constantFrom(0, 1, '\t', '\r\n'),
      fc.integer({ min: 1, max: 7 }),
      (rows, path, indent, size) => {
        const whole = path.reduceRight<unknown>(
          (inner, step) => ({ before: [{ x: 1 }], [step]: inner, '\u0000after"': { y: '}]' } }),
          rows,
        );
        const text = JSON.stringify(whole, null, indent);
        const values = new JsonValues(path);
        const found = [];
        for (let at = 0; at < text.length; at += size) found.push(...values.push(text.slice(at, at + size)));
        found.push(...values.end());
        const expected = path.reduce<unknown>(
          (inner, step) => (inner as Record<string, unknown>)[step],
          JSON.parse(text) as unknown,
        ) as typeof rows;
        expect(found.map((each) => JSON.parse(each.text) as unknown)).toEqual(Object.values(expected));
        if (!Array.isArray(expected)) expect(found.map(({ key }) => key)).toEqual(Object.keys(expected));
      },
    ),
    { numRuns: 300 },
  );
});

it('cuts values that follow each other, with anything blank between', () => {
  fc.assert(
    fc.property(
      fc.array(fc.jsonValue({ maxDepth: 3 }).filter((each) => typeof each === 'object' && each !== null)),
      fc.constantFrom('', ' ', '\n', '\u001e'),
      (all, between) => {
        const values = new JsonValues(undefined);
        const found = [...values.push(all.map((each) => JSON.stringify(each)).join(between)), ...values.end()];
        expect(found.map(({ text }) => JSON.parse(text) as unknown)).toEqual(JSON.parse(JSON.stringify(all)));
      },
    ),
  );
});

it.each(['{"a":1', '["x', '{"a":[1,2}', ']', '[1]]'])('refuses %s', (text) => {
  const read = () => {
    const values = new JsonValues([]);
    values.push(text);
    values.end();
  };
  expect(read).toThrow(/ends within|nothing opens/);
});

it('guesses nothing wrong of what is cut anywhere', () => {
  const text = JSON.stringify({ page: 1, data: Array.from({ length: 20 }, (_, n) => ({ n, name: `N${n}` })) });
  for (let cut = 60; cut < text.length; cut++)
    expect(jsonLayout(text.slice(0, cut), true, false).options).toMatchObject({ shape: 'array', at: '/data' });
});

it('writes paths as RFC 6901 does', () => {
  expect(pointerOf(['a/b', 'm~n', ''])).toBe('/a~1b/m~0n/');
  expect(stepsOf('/a~1b/m~0n/')).toEqual(['a/b', 'm~n', '']);
});
