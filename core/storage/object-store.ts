/**
 * The port through which the core reaches bytes. Paths are relative to the storage's root, with `/`
 * between steps and no leading slash; a folder is a common prefix that ends in `/`, '' is the root.
 * Adapters: memory (here), local disk and object stores (server/storage); all pass `contract.ts`.
 */
export interface ObjectInfo {
  path: string;
  bytes: number;
  /** Milliseconds since the epoch. */
  modified: number;
  /** Changes with the bytes, where the store gives one. */
  etag?: string;
}

export interface FolderPage {
  /** Names of sub-folders, sorted, without a trailing slash. */
  folders: string[];
  /** Files directly in the folder, sorted by name. */
  files: ObjectInfo[];
}

export interface ObjectStore {
  /** Absolute URI of the root without a trailing slash, as table metadata names it: `file:///lake/bay`. */
  readonly uri: string;
  /** Every file below the folder, in path order within each folder. A missing folder is empty. Fails soon after `signal` is aborted. */
  list(folder: string, signal?: AbortSignal): Promise<ObjectInfo[]>;
  /** The same with what is in archives and other containers in their place, where the store can look into them. */
  listWithMembers?(folder: string, signal?: AbortSignal): Promise<ObjectInfo[]>;
  /** One level only. A missing folder is empty. */
  listFolder(folder: string): Promise<FolderPage>;
  head(path: string): Promise<ObjectInfo | undefined>;
  /** The bytes of [start, end). Fails with `not-found` when there is no such file. */
  read(path: string, range?: { start: number; end: number }): Promise<Uint8Array>;
  put(path: string, bytes: Uint8Array): Promise<void>;
  /** Creates the file whole, or returns false when something stands there already. Never shows half a file. */
  putIfAbsent(path: string, bytes: Uint8Array): Promise<boolean>;
  /** Removing what is not there is no error. */
  delete(path: string): Promise<void>;
}

/** Time in milliseconds since the epoch; a port, so that tests and the demo are repeatable. */
export interface Clock {
  now(): number;
  /** Waits so many milliseconds; where a clock has none, nobody waits. */
  sleep?(milliseconds: number): Promise<void>;
}

/** New identifiers; a port for the same reason. */
export interface Ids {
  uuid(): string;
  /** A positive integer below 2^53, so that clients that read JSON numbers as doubles keep it exact. */
  snapshotId(): number;
}

const encoder = new TextEncoder();
const decoder = new TextDecoder('utf-8', { fatal: true });

export function toBytes(text: string): Uint8Array {
  return encoder.encode(text);
}

/** Decodes UTF-8; throws on bytes that are not. */
export function toText(bytes: Uint8Array): string {
  return decoder.decode(bytes);
}
