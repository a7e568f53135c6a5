/** Memory of the processes after work, and what a page loads. */
import { readFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { projectRoot } from '../server/program-files';
import type { Claim } from './lib/measure';
import type { Running } from './lib/server';

const MOST_MB: [part: keyof ReturnType<Running['memory']>, most: number, why: string][] = [
  ['api', 300, 'fixed'], ['catalog', 600, 'fixed'], ['query engine', 2000 + 500, 'its limit of 2 GB for queries, and 500 MB for the process itself'], ['work engine', 2000 + 500, 'its limit of 2 GB, and 500 MB for the process itself'],
];

export function benchMemory(server: Running): Claim[] {
  const memory = server.memory();
  return MOST_MB.map(([part, most, why]) => ({ what: `Memory of the ${part} process, the largest of its kind, after the queries`, limit: `at most ${most} MB resident`, measured: `${memory[part].toFixed(0)} MB`, reference: why, holds: memory[part] > 0 && memory[part] <= most }));
}

interface Chunk {
  file: string;
  isEntry?: boolean;
  isDynamicEntry?: boolean;
  imports?: string[];
}

const FIRST_PAGE = 'pages/storage/StoragePage.vue';

export function benchPages(): Claim[] {
  const web = path.join(projectRoot, 'dist/web');
  const manifest = JSON.parse(readFileSync(path.join(web, '.vite/manifest.json'), 'utf8')) as Record<string, Chunk>;
  const reach = (key: string, found = new Set<string>()): Set<string> => {
    if (found.has(key)) return found;
    found.add(key);
    for (const each of manifest[key]!.imports ?? []) reach(each, found);
    return found;
  };
  const shell = [...reach('index.html')];
  const kilobytes = (page: string) => [...new Set([...shell, ...reach(page)])].reduce((sum, key) => sum + gzipSync(readFileSync(path.join(web, manifest[key]!.file))).length, 0) / 1000;
  const pages = Object.keys(manifest).filter((key) => manifest[key]!.isDynamicEntry).map((key) => ({ key, size: kilobytes(key) })).sort((a, b) => b.size - a.size);
  const first = kilobytes(FIRST_PAGE);
  const heaviest = pages[0]!;
  const title = path.basename(heaviest.key, '.vue');
  return [
    { what: 'JavaScript of the first page', limit: 'at most 120 kB compressed', measured: `${first.toFixed(0)} kB`, reference: 'fixed', holds: first <= 120 },
    { what: `JavaScript of the heaviest page, ${title}`, limit: 'at most 250 kB compressed', measured: `${heaviest.size.toFixed(0)} kB`, reference: 'fixed', holds: heaviest.size <= 250 },
  ];
}
