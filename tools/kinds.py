"""Writes one table as files of every kind that other libraries write, with the table itself as the truth.

Usage: kinds.py FOLDER. Rows are made up from a fixed seed. Libraries: pandas, openpyxl, odfpy, pyarrow, fastavro, PyYAML,
cramjam, and Python's own bz2, lzma, gzip, zipfile, tarfile, sqlite3.
"""
import bz2, datetime, gzip, io, json, lzma, os, random, sqlite3, sys, tarfile, zipfile
import cramjam, fastavro, pandas, pyarrow, pyarrow.feather, pyarrow.orc, yaml

folder = sys.argv[1]
random.seed(7)
PLACES = ['Holm Quay', 'Low Scar', 'Whin, outer', 'Größe "9"', 'Ålesund\nnorth', '渔港']


def table(count):
    day = datetime.date(2024, 2, 20)
    return [{
        'id': n + 1, 'place': random.choice(PLACES), 'count': random.randint(-10**12, 10**12), 'depth': round(random.uniform(-50, 50), 3),
        'open': random.random() < 0.5, 'day': (day + datetime.timedelta(days=n % 400)).isoformat(),
        'note': None if n % 7 == 0 else 'n%d' % n,
    } for n in range(count)]


ROWS, MANY = table(300), table(60000)
OTHER = [{'boat': 'B%d' % n, 'length': 5 + n / 4} for n in range(40)]
truth = []


def put(path, content, rows=ROWS, table=None, kind=''):
    full = os.path.join(folder, path)
    os.makedirs(os.path.dirname(full), exist_ok=True)
    if content is not None:
        with open(full, 'wb') as out:
            out.write(content if isinstance(content, bytes) else content.encode())
    if rows is not None:
        truth.append({'path': table or path, 'columns': list(rows[0]), 'rows': [list(each.values()) for each in rows] if len(rows) <= 1000 else len(rows), 'sum': sum(each.get('count', 0) for each in rows), 'kind': kind or path.split('/')[0]})


frame = pandas.DataFrame(ROWS)
csv = frame.to_csv(index=False)
many = pandas.DataFrame(MANY).to_csv(index=False).encode()
other = pandas.DataFrame(OTHER).to_csv(index=False)

packings = {'gz': gzip.compress, 'bz2': bz2.compress, 'xz': lzma.compress, 'zst': lambda b: bytes(cramjam.zstd.compress(b)), 'lz4': lambda b: bytes(cramjam.lz4.compress(b)), 'sz': lambda b: bytes(cramjam.snappy.compress(b))}
for ending, pack in packings.items():
    put('packed-%s/rows.csv.%s' % (ending, ending), pack(csv.encode()))
    put('packed-many-%s/rows.csv.%s' % (ending, ending), pack(many), MANY)
    put('packed-json-%s/rows.jsonl.%s' % (ending, ending), pack(frame.to_json(orient='records', lines=True).encode()))
    put('packed-latin-%s/rows.csv.%s' % (ending, ending), pack('n,name\n1,Grün\n2,Maß\n3,Schön\n4,Füße\n'.encode('cp1252')), [{'n': i + 1, 'name': n} for i, n in enumerate(['Grün', 'Maß', 'Schön', 'Füße'])])
put('named-plain/rows.csv', gzip.compress(csv.encode()))
put('named-packed/rows.csv.gz', csv)
put('named-nothing/rows', lzma.compress(csv.encode()))
half = len(ROWS) // 2
put('packed-both/a.csv', pandas.DataFrame(ROWS[:half]).to_csv(index=False), None)
put('packed-both/b.csv.bz2', bz2.compress(pandas.DataFrame(ROWS[half:]).to_csv(index=False).encode()), ROWS, 'packed-both')


def zipped(members):
    out = io.BytesIO()
    with zipfile.ZipFile(out, 'w', zipfile.ZIP_DEFLATED) as archive:
        for name, content in members.items():
            archive.writestr(name, content)
    return out.getvalue()


def tarred(members, mode):
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode=mode) as archive:
        for name, content in members.items():
            data = content if isinstance(content, bytes) else content.encode()
            info = tarfile.TarInfo(name)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


put('zip-one/rows.zip', zipped({'rows.csv': csv}), table='zip-one/rows.zip')
put('zip-many/all.zip', zipped({'rows.csv': csv, 'boats.csv': other, 'README.md': 'made up', '__MACOSX/._rows.csv': 'x'}), ROWS, 'zip-many/all.zip/rows.csv')
put('zip-many/all.zip', None, OTHER, 'zip-many/all.zip/boats.csv')
put('zip-folders/all.zip', zipped({'2024/01/a.csv': pandas.DataFrame(ROWS[:half]).to_csv(index=False), '2024/02/b.csv': pandas.DataFrame(ROWS[half:]).to_csv(index=False)}), [{**each, 'year': 2024, 'month': 1 if n < half else 2} for n, each in enumerate(ROWS)], 'zip-folders/all.zip')
put('zip-packed/all.zip', zipped({'rows.csv.gz': gzip.compress(csv.encode())}), table='zip-packed/all.zip')
for ending, mode in {'tar': 'w', 'tar.gz': 'w:gz', 'tgz': 'w:gz', 'tar.bz2': 'w:bz2', 'tar.xz': 'w:xz'}.items():
    put('tar-%s/rows.%s' % (ending, ending), tarred({'rows.csv': csv}, mode))

sheets = frame.assign(day=pandas.to_datetime(frame['day']))
for ending, engine in {'xlsx': 'openpyxl', 'ods': 'odf'}.items():
    os.makedirs(os.path.join(folder, 'sheets-' + ending), exist_ok=True)
    name = 'sheets-%s/book.%s' % (ending, ending)
    with pandas.ExcelWriter(os.path.join(folder, name), engine=engine, date_format='YYYY-MM-DD', datetime_format='YYYY-MM-DD') as book:
        sheets.to_excel(book, sheet_name='Catch', index=False)
        pandas.DataFrame(OTHER).to_excel(book, sheet_name='Boats', index=False, startrow=3, startcol=2)
    put(name, None, ROWS, name + '/Catch.csv')
    put(name, None, OTHER, name + '/Boats.csv')

os.makedirs(os.path.join(folder, 'sqlite'), exist_ok=True)
for name, mode in (('plain.sqlite', 'DELETE'), ('ahead.db', 'WAL')):
    base = sqlite3.connect(os.path.join(folder, 'sqlite', name))
    base.execute('PRAGMA journal_mode = %s' % mode)
    frame.to_sql('catch', base, index=False)
    pandas.DataFrame(OTHER).to_sql('boats', base, index=False)
    base.commit()
    if mode == 'WAL':
        base.execute('PRAGMA wal_checkpoint(TRUNCATE)')
    base.close()
    put('sqlite/' + name, None, [{**each, 'open': 1 if each['open'] else 0} for each in ROWS], 'sqlite/%s/catch.jsonl' % name)
    put('sqlite/' + name, None, OTHER, 'sqlite/%s/boats.jsonl' % name)

for orient in ('records', 'split', 'table', 'values'):
    rows = ROWS if orient != 'values' else [dict(zip(['column_%d' % (n + 1) for n in range(7)], each.values())) for each in ROWS]
    text = frame.to_json(orient=orient, index=False) if orient in ('split', 'table') else frame.to_json(orient=orient)
    put('json-%s/rows.json' % orient, text, rows)
put('json-keyed/rows.json', json.dumps({'k%d' % n: each for n, each in enumerate(ROWS)}, ensure_ascii=False), [{'key': 'k%d' % n, **each} for n, each in enumerate(ROWS)])
put('json-nested/rows.json', json.dumps({'meta': {'page': 1}, 'result': {'items': ROWS, 'total': 300}}, indent=2))
put('json-one-after-other/rows.json', '\n'.join(json.dumps(each, indent=1) for each in ROWS))
put('json-header/rows.json', json.dumps([list(ROWS[0])] + [list(each.values()) for each in ROWS]))
put('json-utf16/rows.json', frame.to_json(orient='records', lines=True, force_ascii=False).encode('utf-16'))
put('json-big/rows.json', json.dumps({'data': [{'n': 12345678901234567890 + n, 'x': n + 0.1} for n in range(50)]}), [{'n': 12345678901234567890 + n, 'x': n + 0.1} for n in range(50)])
put('geojson/quays.geojson', json.dumps({'type': 'FeatureCollection', 'features': [{'type': 'Feature', 'id': n, 'properties': {'name': 'Q%d' % n, 'depth': n / 2}, 'geometry': {'type': 'Point', 'coordinates': [10.5, n]}} for n in range(30)]}), [{'id': n, 'name': 'Q%d' % n, 'depth': n / 2, 'geometry': '{"type": "Point", "coordinates": [10.5, %d]}' % n} for n in range(30)])
put('yaml/rows.yaml', yaml.safe_dump(ROWS, allow_unicode=True, sort_keys=False))
put('yaml-keyed/rows.yml', yaml.safe_dump({'fleet': {'boats': OTHER}}, sort_keys=False), OTHER)

arrow = pyarrow.Table.from_pandas(frame.assign(day=pandas.to_datetime(frame['day']).dt.date), preserve_index=False)
for ending, options in {'feather': dict(compression='lz4'), 'zstd.feather': dict(compression='zstd'), 'plain.feather': dict(compression='uncompressed')}.items():
    out = io.BytesIO()
    pyarrow.feather.write_feather(arrow, out, **options)
    put('arrow-%s/rows.%s' % (ending.replace('.', '-'), ending), out.getvalue())
out = io.BytesIO()
with pyarrow.ipc.new_stream(out, arrow.schema) as writer:
    writer.write_table(arrow, max_chunksize=70)
put('arrow-stream/rows.arrow', out.getvalue())
out = io.BytesIO()
fastavro.writer(out, fastavro.parse_schema({'type': 'record', 'name': 'r', 'fields': [{'name': 'id', 'type': 'long'}, {'name': 'place', 'type': 'string'}, {'name': 'count', 'type': 'long'}, {'name': 'depth', 'type': 'double'}, {'name': 'open', 'type': 'boolean'}, {'name': 'day', 'type': 'string'}, {'name': 'note', 'type': ['null', 'string']}]}), ROWS)
put('avro/rows.avro', out.getvalue())

logs = ['127.0.0.1 - frank [10/Oct/2000:13:55:36 -0700] "GET /apache_pb.gif HTTP/1.0" 200 2326']
logs += ['10.0.0.%d - - [%02d/Mar/2024:08:%02d:00 +0000] "GET /quay/%d HTTP/1.1" %d %d' % (n % 250, 1 + n % 28, n % 60, n, 200 if n % 5 else 404, 100 + n) for n in range(99)]
put('log-common/access.log', '\n'.join(logs) + '\n', [{'lines': 100}], kind='count')
put('log-combined/access.log', '\n'.join(each + ' "http://quay.example/start" "Mozilla/4.08 [en] (Win98; I ;Nav)"' for each in logs) + '\n', [{'lines': 100}], kind='count')

put('log-system/messages.log', ''.join('Mar %2d 08:%02d:00 holm pumpd[%d]: pump %d runs\n' % (1 + n % 28, n % 60, 100 + n, n) for n in range(80)), [{'lines': 80}], kind='count')
put('log-level/app.log', ''.join('2024-03-%02d 08:00:%02d,123 INFO pump %d runs\n' % (1 + n % 28, n % 60, n) for n in range(80)) + 'Traceback: it stopped\n', [{'lines': 80}], kind='count')
put('log-pairs/app.log', ''.join('at=2024-03-%02dT08:00:00Z level=info pump=%d msg="pump %d runs" depth=%s\n' % (1 + n % 28, n, n, n / 2) for n in range(50)), [{'at': '2024-03-%02dT08:00:00Z' % (1 + n % 28), 'level': 'info', 'pump': n, 'msg': 'pump %d runs' % n, 'depth': n / 2} for n in range(50)])

with open(os.path.join(folder, '..', 'kinds-truth.json'), 'w') as out:
    json.dump(truth, out, ensure_ascii=False)
print(len(truth))
