/**
 * Hand-made files for all that plain text comes as, each with its truth: through inference, proof and the final statement.
 * RFC 4180 and RFC 3339 where named; the rest is common practice with no source.
 */
import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { FolderTable, MemoryListings } from '../../core/folder/table';
import { fullOptions } from '../../core/folder/read-options';
import { field } from '../../core/schema/types';
import { parseTypeName, typeName } from '../../core/schema/type-names';
import { asStorage, readTable, storeAt, temporaryFolder } from '../testing/lake-tools';
import { EngineError } from '../engine/failures';
import { LocalEngine } from '../testing/local-engine';
import { folderDefinition } from './files-as-table';
import { Inspector } from './inspect';
import { LocalFiles } from './local-files';
import { prove } from './proof';

vi.setConfig({ testTimeout: 60_000 });
const folder = temporaryFolder();
let engine: LocalEngine;
let inspector: Inspector;
beforeAll(async () => {
  engine = await LocalEngine.start();
  inspector = new Inspector(engine, new LocalFiles(path.join(folder.path, 'copies'), 1e9, engine));
});
afterAll(folder.remove);

let cases = 0;
/** Reads a file as a crawl registers it. */
async function read(content: string | Buffer, name = 'a.csv') {
  const root = `c${++cases}`;
  mkdirSync(path.join(folder.path, root));
  writeFileSync(path.join(folder.path, root, name), content);
  const storage = asStorage(storeAt(folder.path));
  const files = await storage.store.list(root);
  const facts = await inspector.inspect(storage, name.endsWith('.csv') || name.endsWith('.tsv') || name.endsWith('.csv.gz') ? 'csv' : name.endsWith('.jsonl') ? 'json' : 'text', files);
  if (facts[0]!.problem) return { problem: facts[0]!.problem, columns: [], rows: [], proof: undefined, guesses: [], notes: [] };
  const { definition: seen } = folderDefinition({ kind: 'files', root, files, fileKind: 'csv', pattern: '*', partitions: [] }, facts);
  const { definition, proof } = await prove(inspector, storage, seen, files, { name: root });
  const table = new FolderTable(storage.store, root, root, definition, new MemoryListings());
  const rows = proof.problem ? [] : (await readTable(engine, storeAt(folder.path), table)).rows;
  return { columns: definition.fields.map((each) => `${each.name} ${typeName(each.type)}`), rows, proof, guesses: facts[0]!.columns.map((each) => each.guess), notes: facts[0]!.notes ?? [], problem: proof.problem?.problem };
}

type Case = [what: string, text: string | Buffer, columns: string[], rows: unknown[][]];

const LAYOUTS: Case[] = [
  ['RFC 4180, 2.5 to 2.7: quotes, line breaks and doubled quotes within', 'a,b\r\n"x, y","say ""hi"""\r\n"two\r\nlines",z\r\n', ['a varchar', 'b varchar'], [['x, y', 'say "hi"'], ['two\r\nlines', 'z']]],
  ['no name for the first column', '"","n"\n"1",5\n"2",7\n', ['column_1 bigint', 'n bigint'], [[1, 5], [2, 7]]],
  ['a header that lacks the first name', 'n m\nr1 1 2\nr2 3 4\nr3 5 6\n', ['column_1 varchar', 'n bigint', 'm bigint'], [['r1', 1, 2], ['r2', 3, 4], ['r3', 5, 6]]],
  ['names twice, with blanks around, over two lines', 'n, n ,"two\nlines"\n1,2,3\n', ['n bigint', 'n_1 bigint', 'two lines bigint'], [[1, 2, 3]]],
  ['no header', '1,2.5\n3,4.5\n5,6.5\n', ['field_1 bigint', 'field_2 double'], [[1, 2.5], [3, 4.5], [5, 6.5]]],
  ['units below the names', 'depth,temp\nm,°C\n1,4.5\n2,4.4\n3,4.1\n4,4.0\n', ['depth m bigint', 'temp °C double'], [[1, 4.5], [2, 4.4], [3, 4.1], [4, 4]]],
  ['a title and notes above, totals and a source below', 'Catch by harbor\n\nSource: harbor office\nplace,kind,tons\nHolm,cod,4\nLow Scar,ling,5\nWhin,cod,6\nTotal,,15\n(preliminary)\n', ['place varchar', 'kind varchar', 'tons bigint'], [['Holm', 'cod', 4], ['Low Scar', 'ling', 5], ['Whin', 'cod', 6]]],
  ['a delimiter at the end of each line', 'a,b,\n1,x,\n2,y,\n', ['a bigint', 'b varchar'], [[1, 'x'], [2, 'y']]],
  ['shorter lines', 'a,b,c\n1,2,3\n4\n5,6,7\n8,9\n', ['a bigint', 'b bigint', 'c bigint'], [[1, 2, 3], [4, null, null], [5, 6, 7], [8, 9, null]]],
  ['comments', '# made by hand\na,b\n# here too\n1,2\n', ['a bigint', 'b bigint'], [[1, 2]]],
  ['a header behind a number sign', '#a,b\n1,2\n3,4\n', ['#a bigint', 'b bigint'], [[1, 2], [3, 4]]],
  ['semicolons', 'a;b\n1,5;x\n2,5;y\n', ['a double', 'b varchar'], [[1.5, 'x'], [2.5, 'y']]],
  ['tabs', 'a\tb\n1\tx y\n2\tz\n', ['a bigint', 'b varchar'], [[1, 'x y'], [2, 'z']]],
  ['pipes', 'a|b\n1|x,y\n2|z\n', ['a bigint', 'b varchar'], [[1, 'x,y'], [2, 'z']]],
  ['several characters', 'a||b\n1||x\n2||y\n', ['a bigint', 'b varchar'], [[1, 'x'], [2, 'y']]],
  ['blanks, however many', 'a   b  c\n1 2     3\n4  5  6\n7   8   9\n', ['a bigint', 'b bigint', 'c bigint'], [[1, 2, 3], [4, 5, 6], [7, 8, 9]]],
  ['blanks before quotes', 'a, b\n"x, y",   "JAM"\n"z",   "USA"\n', ['a varchar', 'b varchar'], [['x, y', 'JAM'], ['z', 'USA']]],
  ['single quotes', "a,b\n'x, y',1\n'z',2\n'it''s',3\n", ['a varchar', 'b bigint'], [['x, y', 1], ['z', 2], ["it's", 3]]],
  ['a quote that nothing closes', 'a,b\n5" pipe,1\n"open,2\nz,3\n', ['a varchar', 'b bigint'], [['5" pipe', 1], ['"open', 2], ['z', 3]]],
  ['old ends of lines', 'a,b\r1,2\r3,4\r', ['a bigint', 'b bigint'], [[1, 2], [3, 4]]],
  ['ends of lines of two kinds', 'a,b\r\n1,2\n3,4\r\n', ['a bigint', 'b bigint'], [[1, 2], [3, 4]]],
  ['a mark of byte order', '\ufeffa,b\n1,2\n', ['a bigint', 'b bigint'], [[1, 2]]],
  ['UTF-16 without a mark', Buffer.from('name,b\nGröße,2\nMaß,3\n', 'utf16le'), ['name varchar', 'b bigint'], [['Größe', 2], ['Maß', 3]]],
  ['UTF-16, the other way, with a mark', Buffer.from('\ufeffname,b\nGröße,2\n', 'utf16le').swap16(), ['name varchar', 'b bigint'], [['Größe', 2]]],
  ['Latin letters in a code page', Buffer.from('stra\xdfe,ort\nGr\xfcner Weg,K\xf6ln\nM\xfchlgasse,L\xfcbeck\nSch\xf6ne Aussicht,T\xfcbingen\n', 'latin1'), ['straße varchar', 'ort varchar'], [['Grüner Weg', 'Köln'], ['Mühlgasse', 'Lübeck'], ['Schöne Aussicht', 'Tübingen']]],
  ['one column', 'name\nHolm\nLow Scar\nWhin\n', ['name varchar'], [['Holm'], ['Low Scar'], ['Whin']]],
  ['rows that are nearly empty stay', 'a,b,c\n1,,\n2,,\n3,x,y\n', ['a bigint', 'b varchar', 'c varchar'], [[1, null, null], [2, null, null], [3, 'x', 'y']]],
];

const VALUES: Case[] = [
  ['days first', 'd\n25/04/2024\n03/05/2024\n', ['d date'], [['2024-04-25'], ['2024-05-03']]],
  ['months first', 'd\n04/25/2024\n05/03/2024\n', ['d date'], [['2024-04-25'], ['2024-05-03']]],
  ['days with points', 'd\n5.4.2024\n25.12.2023\n', ['d date'], [['2024-04-05'], ['2023-12-25']]],
  ['years of two digits', 'd\n31/12/99\n01/02/24\n', ['d date'], [['1999-12-31'], ['2024-02-01']]],
  ['English months', 'd\n5-Jan-2024\n17-Mar-2024\n', ['d date'], [['2024-01-05'], ['2024-03-17']]],
  ['German months', 'd\n5. Januar 2024\n17. März 2024\n', ['d date'], [['2024-01-05'], ['2024-03-17']]],
  ['French months', 'd\n5 janvier 2024\n14 juillet 2024\n', ['d date'], [['2024-01-05'], ['2024-07-14']]],
  ['two ways of writing in one column', 'd\n2024-04-25\n25/04/2024\n26/04/2024\n', ['d date'], [['2024-04-25'], ['2024-04-25'], ['2024-04-26']]],
  ['YYYYMMDD in a column called date', 'date,n\n20240425,1\n20240503,2\n', ['date date', 'n bigint'], [['2024-04-25', 1], ['2024-05-03', 2]]],
  ['YYYYMMDD elsewhere', 'id,n\n20240425,1\n20240503,2\n', ['id bigint', 'n bigint'], [[20240425, 1], [20240503, 2]]],
  ['RFC 3339 times with zones (its own examples in 5.8)', 't\n1985-04-12T23:20:50.52Z\n1996-12-19T16:39:57-08:00\n1937-01-01T12:00:27.87+00:20\n', ['t timestamptz'], [['1985-04-12T23:20:50.520000Z'], ['1996-12-20T00:39:57Z'], ['1937-01-01T11:40:27.870000Z']]],
  ['times of other writings', 't\n25/04/2024 13:05\n26/04/2024 9:30\n', ['t timestamptz'], [['2024-04-25T13:05:00Z'], ['2024-04-26T09:30:00Z']]],
  ['half days', 't\n04/25/2024 1:05 PM\n04/26/2024 12:30 AM\n', ['t timestamptz'], [['2024-04-25T13:05:00Z'], ['2024-04-26T00:30:00Z']]],
  ['times alone', 't\n13:05\n09:30\n', ['t time'], [['13:05:00'], ['09:30:00']]],
  ['more than six digits of a second stay text', 't\n2024-01-01 00:00:00.123456789\n', ['t varchar'], [['2024-01-01 00:00:00.123456789']]],
  ['no day of the calendar', 'd\n2024-02-30\n2024-02-28\n', ['d varchar'], [['2024-02-30'], ['2024-02-28']]],
  ['thousands with commas', 'n\n"1,234"\n"12,345,678"\n7\n', ['n bigint'], [[1234], [12345678], [7]]],
  ['thousands with points and a decimal comma', 'n\n"1.234,5"\n"12.345.678,25"\n', ['n double'], [[1234.5], [12345678.25]]],
  ['thousands with blanks', 'n;m\n1 234;x\n12 345 678;y\n', ['n bigint', 'm varchar'], [[1234, 'x'], [12345678, 'y']]],
  ['thousands with narrow blanks', 'n;m\n1\u202f234,5;x\n12\u202f345,5;y\n', ['n double', 'm varchar'], [[1234.5, 'x'], [12345.5, 'y']]],
  ['thousands with apostrophes', "n,m\n1'234,x\n12'345'678,y\n", ['n bigint', 'm varchar'], [[1234, 'x'], [12345678, 'y']]],
  ['money', 'price\n"$1,234.50"\n$7.25\n-$3.00\n', ['price decimal(18,2)'], [['1234.50'], ['7.25'], ['-3.00']]],
  ['percent', 'share\n12.5%\n3%\n', ['share double'], [[12.5], [3]]],
  ['parentheses for negative', 'n\n(1.5)\n2.5\n', ['n double'], [[-1.5], [2.5]]],
  ['plus signs and powers', 'n\n+1.5\n2e3\n-1.5E-2\n', ['n double'], [[1.5], [2000], [-0.015]]],
  ['leading zeros', 'zip\n01234\n98765\n', ['zip varchar'], [['01234'], ['98765']]],
  ['hexadecimal', 'h\n0x1F\n0x2A\n', ['h varchar'], [['0x1F'], ['0x2A']]],
  ['twenty digits', 'n\n12345678901234567890\n2\n', ['n decimal(38,0)'], [['12345678901234567890'], ['2']]],
  ['more digits than a double holds', 'n\n0.1234567890123456789\n2.5\n', ['n decimal(38,19)'], [['0.1234567890123456789'], ['2.5000000000000000000']]],
  ['texts for missing among numbers', 'n,m\n1,NA\n-,2\n?,3\n4,n/a\n', ['n bigint', 'm bigint'], [[1, null], [null, 2], [null, 3], [4, null]]],
  ['the same texts among words stay', 'n\nNA\nDE\nFR\n', ['n varchar'], [['NA'], ['DE'], ['FR']]],
  ['words for yes and no', 'a,b\nyes,ja\nno,nein\nYES,JA\n', ['a boolean', 'b boolean'], [[true, true], [false, false], [true, true]]],
  ['blanks around values', 'n,d\n 1 , 2024-01-05 \n  2, 2024-01-06\n', ['n bigint', 'd date'], [[1, '2024-01-05'], [2, '2024-01-06']]],
  ['UUIDs', 'u\n6fa459ea-ee8a-3ca4-894e-db77e160355e\n16fd2706-8baf-433b-82eb-8c7fada847da\n', ['u uuid'], [['6fa459ea-ee8a-3ca4-894e-db77e160355e'], ['16fd2706-8baf-433b-82eb-8c7fada847da']]],
  ['JSON and lists stay text', 'j;l\n{"a": 1};[1, 2]\n{"a": 2};[3]\n', ['j varchar', 'l varchar'], [['{"a": 1}', '[1, 2]'], ['{"a": 2}', '[3]']]],
  ['numbers and words', 'n\n1\n2\nmany\n', ['n varchar'], [['1'], ['2'], ['many']]],
];

describe('a plain text is read right at first sight:', () => {
  it.each(LAYOUTS)('%s', async (_, text, columns, rows) => {
    const found = await read(text);
    expect(found.problem).toBeUndefined();
    expect({ columns: found.columns, rows: found.rows }).toEqual({ columns, rows });
  });

  it.each(VALUES)('%s', async (_, text, columns, rows) => {
    const found = await read(text);
    expect({ problem: found.problem, columns: found.columns, rows: found.rows }).toEqual({ problem: undefined, columns, rows });
  });
});

describe('what is seen late', () => {
  const many = (first: string, late: string) => `n,t\n${Array.from({ length: 40_000 }, (_, index) => `${first.replace('#', String(index))},some text to fill the line with\n`).join('')}${late},x\n${Array.from({ length: 40_000 }, (_, index) => `${first.replace('#', String(index))},some text to fill the line with\n`).join('')}`;

  it.each([['a fraction among whole numbers', '#', '0.5', 'n double'], ['many digits', '#', '12345678901234567890', 'n decimal(38,0)'], ['a word', '#', 'none of them', 'n varchar'], ['a text for missing', '#', 'nil', 'n bigint'], ['a time among days', '2024-01-05', '2024-01-05 10:00:00', 'n timestamptz']])('%s: the type widens, and that is told', async (_, first, late, column) => {
    const { columns, proof, problem } = await read(many(first, late));
    expect(problem).toBeUndefined();
    expect(columns[0]).toBe(column);
    expect(proof).toMatchObject({ rows: 80_001, repairs: [expect.stringContaining(late.slice(0, 20))] });
  });

  it('other ends of lines: it is cut in another way', async () => {
    const { rows, proof } = await read(`${many('#', '7').replace(/\n$/, '')}\r\n8,y\r\n9,z\r\n`);
    expect(rows.slice(-1)).toEqual([[9, 'z']]);
    expect(proof!.rows).toBe(80_003);
  });
});

describe('JSON lines', () => {
  const many = Array.from({ length: 30_000 }, (_, index) => `{"n":${index},"d":"2026-01-05"}\n`).join('');

  it.each([['a fraction', '{"n":1.5,"d":"2026-01-05"}', ['n double', 'd date'], 'n is double and not bigint'], ['a time', '{"n":7,"d":"2026-01-05T10:00:00Z"}', ['n bigint', 'd timestamptz'], 'd is timestamptz and not date'], ['a word', '{"n":"many","d":"2026-01-05"}', ['n varchar', 'd date'], 'n is text and not bigint']])('%s that comes late widens the column', async (_, line, columns, repair) => {
    const found = await read(`${many}${line}\n${many}`, 'a.jsonl');
    expect({ problem: found.problem, columns: found.columns, rows: found.proof?.rows }).toEqual({ problem: undefined, columns, rows: 60_001 });
    expect(found.proof?.repairs).toEqual([expect.stringMatching(new RegExp(`^${repair}: .*a\\.jsonl, line 30001: `))]);
  });

  it('times with an offset are not read as what the clock there shows', async () => {
    expect((await read('{"t":"2026-01-05T10:00:00+02:00"}\n{"t":"2026-01-05T10:00:00Z"}\n', 'a.jsonl')).rows).toEqual([['2026-01-05T10:00:00+02:00'], ['2026-01-05T10:00:00Z']]);
  });
});

it('does not hold it against a file that it is too large to be read to its end', async () => {
  const { path: file, definition, storage, files } = await large();
  const { proof } = await prove(inspector, storage, definition, files, { name: file, mostBytes: 1000 });
  expect(proof).toEqual({ rows: null, files: 0, of: 1, repairs: [], missing: [], problem: null });
  const slow = { local: inspector.local, engine: { ...engine, call: () => Promise.reject(new EngineError('limit', 'Looking into it was stopped after 120 s.')) } as never };
  expect((await prove(slow, storage, definition, files, { name: file })).proof).toMatchObject({ rows: null, files: 0, problem: null });
});

async function large() {
  const root = `c${++cases}`;
  mkdirSync(path.join(folder.path, root));
  writeFileSync(path.join(folder.path, root, 'a.csv'), `n\n${'1\n'.repeat(2000)}`);
  const storage = asStorage(storeAt(folder.path));
  const files = await storage.store.list(root);
  const { definition } = folderDefinition({ kind: 'files', root, files, fileKind: 'csv', pattern: '*', partitions: [] }, await inspector.inspect(storage, 'csv', files));
  return { path: root, definition, storage, files };
}

it('tells how many values are read as missing, and which texts', async () => {
  const { proof } = await read('n,m\n1,5\nNA,6\nNA,7\n4,8\n');
  expect(proof).toMatchObject({ rows: 4, files: 1, of: 1, missing: [{ column: 'n', values: 2, texts: ['NA'] }] });
});

it('tells when days and months can change places, and offers the other', async () => {
  const { guesses } = await read('d\n03/04/2024\n05/06/2024\n01/02/2024\n');
  expect(guesses[0]).toMatchObject({ isAmbiguous: true, form: { formats: ['%m/%d/%Y'] }, others: [{ label: 'date as day/month/year' }, { label: 'text' }] });
  // The order of the rows decides where it is by one reading alone.
  expect((await read('d\n01/01/2024\n01/02/2024\n01/03/2024\n01/04/2023\n'.replace('2023', '2024'))).guesses[0]).toMatchObject({ isAmbiguous: true });
});

it('offers whole numbers as times where all could be counts since 1970, and reads them so when told', async () => {
  const units = { s: '1700000000', ms: '1700000000123', us: '1700000000123456', ns: '1700000000123456789' };
  for (const [unit, text] of Object.entries(units)) {
    const { columns, guesses } = await read(`n,at\n1,${text}\n2,${text}\n`);
    expect(columns).toEqual(['n bigint', 'at bigint'].map((each) => (unit === 'ns' ? each.replace('at bigint', 'at decimal(38,0)') : each)));
    expect(guesses[1]!.others[0]).toMatchObject({ form: { epoch: unit } });
  }
  expect((await read('n\n5\n1700000000\n')).guesses[0]!.others).toMatchObject([{ label: 'text' }]);
  const told = async (unit: string, text: string, type: string) => {
    const root = `c${++cases}`;
    mkdirSync(path.join(folder.path, root));
    writeFileSync(path.join(folder.path, root, 'a.csv'), `at\n${text}\n`);
    const options = fullOptions({ format: 'csv', forms: { at: { epoch: unit } } });
    const table = new FolderTable(storeAt(folder.path), root, root, { pattern: '*', options, partitionColumns: [], fields: [field('at', parseTypeName(type))] }, new MemoryListings());
    return (await readTable(engine, storeAt(folder.path), table)).rows[0]![0];
  };
  expect(await Promise.all([told('s', units.s, 'timestamptz'), told('ms', units.ms, 'timestamptz'), told('us', units.us, 'timestamptz'), told('ns', units.ns, 'timestamp_ns')])).toEqual(['2023-11-14T22:13:20Z', '2023-11-14T22:13:20.123000Z', '2023-11-14T22:13:20.123456Z', '2023-11-14T22:13:20.123456789']);
});

it('says what does not fit a type that nearly all values are of', async () => {
  const { guesses } = await read(`n\n${Array.from({ length: 50 }, (_, index) => `${index}\n`).join('')}many\n`);
  expect(guesses[0]).toMatchObject({ type: { kind: 'string' }, why: '50 of 51 values are whole numbers, and 1 are not: "many"', others: [{ misfits: 1, examples: ['many'] }, { form: { missing: ['many'] } }] });
});

it('names the line that has more fields than the others', async () => {
  expect((await read('a,b\n1,2\n3,4,5\n6,7\n')).problem).toContain('line 3: expected 2 fields with comma between, found 3');
});

it('reads a packed file like a plain one', async () => {
  expect((await read(gzipSync('d;n\n25/04/2024;1,5\n'), 'a.csv.gz')).rows).toEqual([['2024-04-25', 1.5]]);
});
