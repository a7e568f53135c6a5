/** A connected database seen as a storage: schemas are folders, tables are files. Rows are read through its driver, bytes not at all. */
import { LakeError } from '../../core/errors';
import type { FolderPage, ObjectInfo } from '../../core/storage/object-store';
import type { LakeStore } from '../storage/lake-store';
import type { SourceDriver, SourceObject } from './driver';

export class DatabaseStore implements LakeStore {
  constructor(
    readonly uri: string,
    readonly driver: SourceDriver,
  ) {}

  async list(folder: string): Promise<ObjectInfo[]> {
    const objects = await this.driver.objects();
    return objects.filter((each) => folder === '' || each.schema === folder || pathOf(each) === folder).map(asInfo);
  }

  async listFolder(folder: string): Promise<FolderPage> {
    const objects = await this.driver.objects();
    if (folder === '') return { folders: [...new Set(objects.map((each) => each.schema))].sort(), files: [] };
    return { folders: [], files: objects.filter((each) => each.schema === folder).map(asInfo) };
  }

  async head(path: string): Promise<ObjectInfo | undefined> {
    const found = (await this.driver.objects()).find((each) => pathOf(each) === path);
    return found && asInfo(found);
  }

  async hasFolder(folder: string): Promise<boolean> {
    return folder === '' || (await this.driver.objects()).some((each) => each.schema === folder);
  }

  async read(): Promise<Uint8Array> {
    throw noFiles();
  }

  async put(): Promise<void> {
    throw noFiles();
  }

  async putIfAbsent(): Promise<boolean> {
    throw noFiles();
  }

  async delete(): Promise<void> {
    throw noFiles();
  }

  async putFile(): Promise<void> {
    throw noFiles();
  }

  async fetchFile(): Promise<void> {
    throw noFiles();
  }

  async makeFolder(): Promise<void> {
    throw noFiles();
  }

  async move(): Promise<void> {
    throw noFiles();
  }

  async removeFolder(): Promise<void> {
    throw noFiles();
  }
}

function pathOf({ schema, name }: SourceObject): string {
  return `${schema}/${name}`;
}

function asInfo(object: SourceObject): ObjectInfo {
  return { path: pathOf(object), bytes: object.bytes ?? 0, modified: 0, etag: object.kind };
}

function noFiles(): LakeError {
  return new LakeError('unsupported', 'A connected database holds tables, not files; it is only read.');
}
