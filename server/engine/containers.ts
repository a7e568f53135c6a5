/** The files within an archive, the sheets of a spreadsheet, the tables of a database file, each laid in a folder as a file. */
import { createReadStream } from 'node:fs';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import tar from 'tar-stream';
import yauzl from 'yauzl';
import { compressionByBytes, PACKING_BYTES } from '../../core/crawl/kinds';
import { LakeError } from '../../core/errors';
import { faultWords } from '../../core/fault-words';
import type { ContainerKind } from '../../core/storage/members';
import { readPart } from '../storage/read-part';
import { unpackedBy } from '../storage/unpack';
import { MemberSink, type Member } from './member-sink';

export interface ContainerRequest {
  kind: ContainerKind;
  source: string;
  /** An empty folder. Members are laid in it under numbers. */
  target: string;
  /** What errors call it. */
  name: string;
  mostBytes: number;
}

export interface Unpacked {
  members: Member[];
  /** What was passed over, and why. */
  notes: string[];
}

export async function unpackContainer(request: ContainerRequest): Promise<Unpacked> {
  const sink = new MemberSink(request);
  try {
    if (request.kind === 'zip') await unzip(request.source, sink);
    else if (request.kind === 'tar') await untar(request.source, sink);
    // Large libraries, which few processes need.
    else if (request.kind === 'spreadsheet') await (await import('./sheets')).sheetsOf(request.source, sink);
    else await (await import('./sqlite-tables')).tablesOf(request.source, sink);
  } catch (error) {
    if (error instanceof LakeError)
      throw new LakeError(error.kind, `${request.name}: ${error.message}`, {}, { cause: error });
    throw new LakeError(
      'bad-file',
      `${request.name} cannot be read as ${KIND_WORDS[request.kind]}: ${faultWords(error)}.`,
      {},
      { cause: error },
    );
  }
  return { members: sink.members, notes: sink.notes };
}

const KIND_WORDS: Record<ContainerKind, string> = {
  zip: 'a zip archive',
  tar: 'a tar archive',
  spreadsheet: 'a spreadsheet',
  database: 'an SQLite database',
};

async function unzip(source: string, sink: MemberSink): Promise<void> {
  const file = await yauzl.openPromise(source, {
    lazyEntries: true,
    autoClose: false,
    decodeStrings: false,
    validateEntrySizes: true,
  });
  let encrypted = 0;
  try {
    for await (const entry of file.eachEntry()) {
      // Names are judged by us: one that leads out of the archive is passed over, and the others are read.
      const name = yauzl.getFileNameLowLevel(entry.generalPurposeBitFlag, entry.fileNameRaw, entry.extraFields, false);
      if (/[/\\]$/.test(name)) continue;
      if (entry.isEncrypted()) {
        encrypted++;
        continue;
      }
      await sink.stream(name, await file.openReadStreamPromise(entry));
    }
  } finally {
    file.close();
  }
  if (encrypted > 0 && sink.members.length === 0)
    throw new LakeError('unsupported', 'its files are encrypted; unpack it beside');
  if (encrypted > 0)
    sink.notes.push(`${encrypted} ${encrypted === 1 ? 'file is' : 'files are'} encrypted and not read`);
}

async function untar(source: string, sink: MemberSink): Promise<void> {
  const compression = compressionByBytes(await readPart(source, { start: 0, end: PACKING_BYTES }));
  const extract = tar.extract();
  extract.on('entry', (header, stream, next) => {
    const done = (error?: unknown) => {
      if (error) extract.destroy(error as Error);
      else next();
    };
    if (header.type !== 'file' && header.type !== 'contiguous-file') {
      stream.on('end', () => next());
      stream.resume();
      return;
    }
    sink.stream(header.name, stream as unknown as Readable).then(() => done(), done);
  });
  await pipeline(unpackedBy(createReadStream(source), compression), extract as unknown as NodeJS.WritableStream);
}
