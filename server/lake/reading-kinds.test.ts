/**
 * Files of all kinds that are not plain text as it stands, each with its truth: through their container or packing, inference,
 * proof and the final statement. Packed bytes are of Python's bz2 and lzma and of cramjam 2; files of fixtures/kinds of the
 * libraries named in tools/fixtures/make_kinds.py.
 */
import { cpSync, mkdirSync, readFileSync, readdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { groupFiles } from '../../core/crawl/group';
import { FolderTable, MemoryListings } from '../../core/folder/table';
import { typeName } from '../../core/schema/type-names';
import { projectRoot } from '../program-files';
import { MemberStore } from '../storage/member-store';
import { LocalEngine } from '../testing/local-engine';
import { asStorage, readTable, storeAt, temporaryFolder } from '../testing/lake-tools';
import { Containers } from './containers';
import { folderDefinition, type PlainFiles } from './files-as-table';
import { Inspector } from './inspect';
import { LocalFiles } from './local-files';
import { lookAtFile } from './look';
import { prove } from './proof';

vi.setConfig({ testTimeout: 60_000 });
const folder = temporaryFolder();
const lake = path.join(folder.path, 'lake');
mkdirSync(lake);
let engine: LocalEngine;
let inspector: Inspector;
let containers: Containers;
beforeAll(async () => {
  engine = await LocalEngine.start();
  inspector = new Inspector(engine, new LocalFiles(path.join(folder.path, 'copies'), 1e9, engine));
  containers = new Containers(path.join(folder.path, 'unpacked'), 20e6, engine);
});
afterAll(folder.remove);
const storage = () => asStorage(new MemberStore(storeAt(lake), 'bay', () => containers));

let cases = 0;
function put(files: Record<string, string | Buffer>): string {
  const root = `c${++cases}`;
  for (const [name, content] of Object.entries(files)) {
    mkdirSync(path.dirname(path.join(lake, root, name)), { recursive: true });
    writeFileSync(path.join(lake, root, name), content);
  }
  return root;
}

/** Each table that a crawl of the folder finds, read as it would be registered. */
async function read(
  root: string,
): Promise<{ place: string; columns: string[]; rows: unknown[][]; notes: string[]; problem: string | undefined }[]> {
  const at = storage();
  const candidates = await groupFiles(await at.store.listWithMembers!(root), root);
  return Promise.all(
    candidates.map(async (each) => {
      const candidate = each as PlainFiles;
      const place = path.join(candidate.root, candidate.pattern).slice(root.length + 1);
      const kind = await inspector.kindOf(at, candidate.files[0]!);
      const facts = await inspector.inspect(at, kind, candidate.files);
      if (facts[0]?.problem) return { place, columns: [], rows: [], notes: [], problem: facts[0].problem };
      const { definition, proof } = await prove(
        inspector,
        at,
        folderDefinition(candidate, facts).definition,
        candidate.files,
        { name: root },
      );
      const table = new FolderTable(at.store, candidate.root, root, definition, new MemoryListings());
      return {
        place,
        columns: definition.fields.map((field) => `${field.name} ${typeName(field.type)}`),
        rows: proof.problem ? [] : (await readTable(engine, at.store, table)).rows,
        notes: facts[0]?.notes ?? [],
        problem: proof.problem?.problem,
      };
    }),
  );
}

async function only(files: Record<string, string | Buffer>) {
  const found = await read(put(files));
  expect(found).toHaveLength(1);
  return found[0]!;
}

const CSV = 'n,name\n1,Holm Quay\n2,Low Scar\n3,Whin\n';
const ROWS = [
  [1, 'Holm Quay'],
  [2, 'Low Scar'],
  [3, 'Whin'],
];
const PACKED: Record<string, string> = {
  bz2: 'QlpoOTFBWSZTWbWHuFEAAA7fgAAQQAQ4AABEKIAqZ5KgIAAxQaNGgyA0KABpoDR6hjqIKVKFFkolMdsaLaAeB276Am34u5IpwoSFrD3CiA==',
  xz: '/Td6WFoAAATm1rRGAgAhARYAAAB0L+WjAQAkbixuYW1lCjEsSG9sbSBRdWF5CjIsTG93IFNjYXIKMyxXaGluCgAAAACfENc+kbqyhAABPSXSKWoBH7bzfQEAAAAABFla',
  lz4: 'BCJNGFRAriUAAIBuLG5hbWUKMSxIb2xtIFF1YXkKMixMb3cgU2NhcgozLFdoaW4KrAMo0gAAAACsAyjS',
  sz: '/wYAAHNOYVBwWQEpAAD5dA1pbixuYW1lCjEsSG9sbSBRdWF5CjIsTG93IFNjYXIKMyxXaGluCg==',
};

describe('packed files', () => {
  it.each(Object.entries(PACKED))('%s is unpacked, whatever the file is called', async (ending, packed) => {
    const bytes = Buffer.from(packed, 'base64');
    for (const name of [`rows.csv.${ending}`, 'rows.csv', 'rows'])
      expect(await only({ [name]: bytes })).toMatchObject({
        columns: ['n bigint', 'name varchar'],
        rows: ROWS,
        problem: undefined,
      });
  });
  it('files of one folder may be packed in several ways', async () => {
    expect(
      (await only({ 'a.csv': CSV, 'b.csv.bz2': Buffer.from(PACKED.bz2!, 'base64'), 'c.csv.gz': gzipSync(CSV) })).rows,
    ).toHaveLength(9);
  });
  it('one that is cut short is told', async () => {
    for (const [ending, packed] of Object.entries(PACKED)) {
      const bytes = Buffer.from(packed, 'base64');
      expect((await only({ [`rows.csv.${ending}`]: bytes.subarray(0, bytes.length - 12) })).problem, ending).toMatch(
        /cannot be unpacked|cannot be read/,
      );
    }
  });
});

/** Of Python's zipfile: three files, one whose name leads out, a note, and what a desktop adds. */
const ZIP = readFileSync(path.join(projectRoot, 'fixtures/kinds/all.zip'));

describe('files within files', () => {
  it('a zip archive is a folder, and no name leads out of it', async () => {
    const before = readdirSync(folder.path, { recursive: true }).length;
    const root = put({ 'all.zip': ZIP });
    const files = await storage().store.list(`${root}/all.zip`);
    expect(files.map((file) => file.path.slice(root.length + 1))).toEqual([
      'all.zip/quays.csv',
      'all.zip/root.csv',
      'all.zip/boats/boats.csv',
      'all.zip/README.md',
    ]);
    const made = readdirSync(folder.path, { recursive: true })
      .map(String)
      .filter((name) => /outside|root\.csv/.test(name));
    expect([made, readdirSync(folder.path, { recursive: true }).length > before]).toEqual([[], true]);
    const look = await lookAtFile(storage(), `${root}/all.zip`, inspector);
    expect([look.members?.length, look.notes, look.problem]).toEqual([
      4,
      ['../../outside.csv is passed over: its name leads out of the archive'],
      null,
    ]);
    expect((await lookAtFile(storage(), `${root}/all.zip/boats/boats.csv`, inspector)).rows).toEqual([['B1', 5.5]]);
    await expect(storage().store.read(`${root}/all.zip/../secret`)).rejects.toThrow('".." are not allowed');
    await expect(storage().store.read(`${root}/all.zip/none.csv`)).rejects.toThrow(
      `There is no none.csv in bay:${root}/all.zip`,
    );
    // Listings of the folder itself show the archive as the file that it is.
    expect((await storage().store.list(root)).map((file) => file.path)).toEqual([`${root}/all.zip`]);
  });

  it('an archive that holds more than may be, or is damaged, is told and stays a file', async () => {
    const zip = ZIP;
    const root = put({ 'bad.zip': zip.subarray(0, 200), 'good.csv': 'a\n1\n' });
    await expect(storage().store.list(`${root}/bad.zip`)).rejects.toThrow(
      `bay:${root}/bad.zip cannot be read as a zip archive`,
    );
    expect((await storage().store.listWithMembers!(root)).map((file) => file.path)).toEqual([
      `${root}/bad.zip`,
      `${root}/good.csv`,
    ]);
    const small = new Containers(path.join(folder.path, 'small'), 50, engine);
    await expect(
      new MemberStore(storeAt(lake), 'bay', () => small).list(put({ 'all.zip': zip }) + '/all.zip'),
    ).rejects.toMatchObject({ kind: 'limit' });
  });

  it.each(['xlsx', 'ods'])(
    'each sheet of %s is a table: its used range, with numbers and days as they are',
    async (ending) => {
      const root = put({});
      mkdirSync(path.join(lake, root));
      cpSync(path.join(projectRoot, `fixtures/kinds/book.${ending}`), path.join(lake, root, `book.${ending}`));
      expect(await read(root)).toMatchObject([
        {
          place: `book.${ending}/Quays.csv`,
          columns: ['n bigint', 'name varchar', 'depth double', 'open boolean', 'since date'],
          rows: [
            [1, 'Holm "Quay"', 1.25, true, '2024-02-29'],
            [2, 'Low Scar\nouter', -0.1, false, '2023-01-01'],
            [3, 'Whin', 12, true, '1999-12-31'],
          ],
        },
        {
          place: `book.${ending}/Boats.csv`,
          columns: ['boat varchar', 'length double'],
          rows: [
            ['B1', 5.5],
            ['B2', 6.25],
            ['B3', 7],
          ],
        },
      ]);
    },
  );

  it('each table of a SQLite database is one, with whole numbers exact', async () => {
    const root = put({});
    mkdirSync(path.join(lake, root));
    cpSync(path.join(projectRoot, 'fixtures/kinds/fleet.sqlite'), path.join(lake, root, 'fleet.sqlite'));
    expect(await read(root)).toMatchObject([
      { place: 'fleet.sqlite/names.jsonl', rows: [['Holm'], [null]] },
      {
        place: 'fleet.sqlite/quays.jsonl',
        rows: [
          ['4611686018427387905', 'Holm', '1', 'AAE='],
          [2, null, 'two', null],
        ],
      },
    ]);
    expect(readdirSync(path.join(lake, root))).toEqual(['fleet.sqlite']);
  });
});

it('an Arrow file is read with the types and digits that it has', async () => {
  const root = put({});
  mkdirSync(path.join(lake, root));
  cpSync(path.join(projectRoot, 'fixtures/kinds/types.feather'), path.join(lake, root, 'types.feather'));
  const [found] = await read(root);
  expect(found!.columns).toEqual([
    'tiny smallint',
    'huge decimal(20,0)',
    'exact timestamp',
    'nano timestamp_ns',
    'zoned timestamptz',
    'day date',
    'money decimal(38,2)',
    'word varchar',
    'some bigint[]',
    'part struct(x bigint, y varchar)',
    'bytes blob',
    'big varchar',
    'view varchar',
    'time time',
    'half float',
  ]);
  expect(found!.rows).toEqual([
    [
      1,
      '18446744073709551615',
      '1969-12-31T23:59:59.999999',
      '2023-11-14T22:13:20.123456789',
      '2023-11-14T22:13:20.123000Z',
      '2024-02-29',
      '12345678901234567890.12',
      'a',
      [1, null, 3],
      { x: 1, y: 'é' },
      'AP8=',
      'x',
      'a text of more than twelve bytes',
      '08:30:00.000001',
      0.5,
    ],
    [
      null,
      '0',
      null,
      '1969-12-31T23:59:59.999999999',
      '1970-01-01T00:00:00Z',
      null,
      '-0.01',
      'b',
      [],
      null,
      '',
      null,
      'short',
      null,
      null,
    ],
  ]);
});

describe('trees', () => {
  it.each([
    [
      'under a path',
      { 'a.json': '{"meta":{"page":1},"result":{"items":[{"n":1,"x":"a"},{"n":2,"x":"b"}],"total":2}}' },
      ['n bigint', 'x varchar'],
      [
        [1, 'a'],
        [2, 'b'],
      ],
    ],
    [
      'by key',
      { 'a.json': '{"h":{"n":1},"l":{"n":2},"w":{"n":3}}' },
      ['key varchar', 'n bigint'],
      [
        ['h', 1],
        ['l', 2],
        ['w', 3],
      ],
    ],
    [
      'as lists with names',
      { 'a.json': '[["n","x"],[1,"a"],[2,null]]' },
      ['n bigint', 'x varchar'],
      [
        [1, 'a'],
        [2, null],
      ],
    ],
    ['one after the other', { 'a.json': '{\n "n": 1\n}\n{\n "n": 2\n}\n' }, ['n bigint'], [[1], [2]]],
    ['one alone', { 'a.json': '{\n "n": 1,\n "tags": ["x"]\n}\n' }, ['n bigint', 'tags varchar[]'], [[1, ['x']]]],
    [
      'GeoJSON (RFC 7946, 1.5)',
      {
        'a.geojson':
          '{"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"Point","coordinates":[102.0,0.5]},"properties":{"prop0":"value0"}},{"type":"Feature","geometry":{"type":"LineString","coordinates":[[102.0,0.0],[103.0,1.0]]},"properties":{"prop0":"value0","prop1":0.0}}]}',
      },
      ['prop0 varchar', 'geometry varchar', 'prop1 double'],
      [
        ['value0', '{"type":"Point","coordinates":[102.0,0.5]}', null],
        ['value0', '{"type":"LineString","coordinates":[[102.0,0.0],[103.0,1.0]]}', 0],
      ],
    ],
    [
      'of many digits',
      { 'a.json': '{"data":[{"n":12345678901234567890,"x":0.10}]}' },
      ['n decimal(38,0)', 'x double'],
      [['12345678901234567890', 0.1]],
    ],
    [
      'in UTF-16',
      { 'a.json': Buffer.from('\ufeff{"x":"Größe"}\n{"x":"Maß"}\n', 'utf16le') },
      ['x varchar'],
      [['Größe'], ['Maß']],
    ],
    [
      'as YAML',
      {
        'a.yaml':
          'quays:\n  - name: Holm\n    depth: 1.50\n    big: 12345678901234567890\n  - name: "Low Scar"\n    depth: ~\n    big: 1\n',
      },
      ['name varchar', 'depth double', 'big decimal(38,0)'],
      [
        ['Holm', 1.5, '12345678901234567890'],
        ['Low Scar', null, '1'],
      ],
    ],
    [
      'as pairs',
      { 'a.log': 'level=info msg="it runs" n=1\nlevel=warn msg="it \\"stops\\"" n=2 now\nlevel=info msg=ok n=3\n' },
      ['level varchar', 'msg varchar', 'n bigint', 'message varchar'],
      [
        ['info', 'it runs', 1, null],
        ['warn', 'it "stops"', 2, 'now'],
        ['info', 'ok', 3, null],
      ],
    ],
  ] as const)('rows %s', async (_, files, columns, rows) => {
    expect(await only(files)).toMatchObject({ columns, rows, problem: undefined });
  });
  it('a value within others is made exactly, and widens where it comes late', async () => {
    const many = Array.from(
      { length: 30_000 },
      (_, n) => `{"at":{"n":${n},"when":"2024-01-01"},"some":[{"m":${n}}]}`,
    ).join('\n');
    const found = await only({
      'a.jsonl': `${many}\n{"at":{"n":1.5,"when":"2024-01-01T10:00:00Z"},"some":[{"m":2},{"m":2.25}]}\n`,
    });
    expect(found.columns).toEqual(['at struct(n double, "when" timestamptz)', 'some struct(m double)[]']);
    expect(found.rows.at(-1)).toEqual([{ n: 1.5, when: '2024-01-01T10:00:00Z' }, [{ m: 2 }, { m: 2.25 }]]);
  });
  it('a list that is not most of the text is a value', async () => {
    expect((await only({ 'a.json': `{"note":"${'x'.repeat(200)}","tags":[{"n":1}]}` })).columns).toEqual([
      'note varchar',
      'tags struct(n bigint)[]',
    ]);
  });
  it('YAML that names itself over and over is refused, and what is no YAML is told with its line', async () => {
    const bomb = `a: &a [x, x, x, x, x, x, x, x, x]\n${[...'bcdefg'].map((name, index) => `${name}: &${name} [${Array.from({ length: 9 }, () => `*${'abcdef'[index]}`).join(', ')}]\n`).join('')}`;
    expect((await only({ 'a.yaml': bomb })).problem).toContain('references');
    expect((await only({ 'b.yaml': 'a: 1\n- b\n' })).problem).toContain('line 2');
  });
});

it("lines of a web server (the documentation's own example among them) have their columns", async () => {
  const line = '127.0.0.1 - frank [10/Oct/2000:13:55:36 -0700] "GET /apache_pb.gif HTTP/1.0" 200 2326';
  const found = await only({
    'access.log': `${line}\n${line.replace('frank', '-').replace('GET /apache_pb.gif HTTP/1.0', '-').replace('200 2326', '400 -')}\n${line}\n`,
  });
  expect(found.columns).toEqual([
    'host varchar',
    'identity varchar',
    'user varchar',
    'time timestamptz',
    'method varchar',
    'path varchar',
    'protocol varchar',
    'status bigint',
    'bytes bigint',
  ]);
  expect(found.rows[0]).toEqual([
    '127.0.0.1',
    '-',
    'frank',
    '2000-10-10T20:55:36Z',
    'GET',
    '/apache_pb.gif',
    'HTTP/1.0',
    200,
    2326,
  ]);
  expect([found.rows[1]![5], found.rows[1]![7], found.rows[1]![8]]).toEqual(['-', 400, null]);
});

it('files of one folder may be cut in several ways, and be of several encodings', async () => {
  const found = await only({
    'a.csv': 'day,name,n\n2024-01-02,"Holm, outer",1\n2024-01-03,Whin,2\n',
    'b.csv': Buffer.from('day;name;n\n2024-02-02;Gr\xfcn;3\n2024-02-03;Sch\xf6n;4\n', 'latin1'),
    'c.csv': 'Catches of March\nday\tname\tn\n2024-03-02\tB\t5\n2024-03-03\tC\t6\n2024-03-04\tD\t7\n',
  });
  expect(found).toMatchObject({ columns: ['day date', 'name varchar', 'n bigint'], problem: undefined });
  expect(found.rows).toEqual([
    ['2024-01-02', 'Holm, outer', 1],
    ['2024-01-03', 'Whin', 2],
    ['2024-02-02', 'Grün', 3],
    ['2024-02-03', 'Schön', 4],
    ['2024-03-02', 'B', 5],
    ['2024-03-03', 'C', 6],
    ['2024-03-04', 'D', 7],
  ]);
});

it('what is in a file counts over what it is called', async () => {
  expect(await only({ 'a.csv': '{"n":1}\n{"n":2}\n' })).toMatchObject({ columns: ['n bigint'], rows: [[1], [2]] });
  expect(await only({ 'a.json': CSV })).toMatchObject({ rows: ROWS });
});

it('a folder of several kinds and shapes makes several tables, and what lies beside data is none', async () => {
  const found = await read(
    put({
      'quays.csv': CSV,
      'boats.json': '[{"boat":"B1"}]',
      'README.md': '# made up',
      'quays.csv.md5': 'abc',
      'log.txt': 'it runs\n',
    }),
  );
  expect(found.map(({ place }) => place).sort()).toEqual(['boats.json', 'log.txt', 'quays.csv']);
});
