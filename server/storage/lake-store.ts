/** What the server needs of a storage beyond the core's port. */
import type { ObjectStore } from '../../core/storage/object-store';

export interface LakeStore extends ObjectStore {
  /** The folder on this machine in which the files lie, so that they can be opened in place; undefined for stores elsewhere. */
  readonly root?: string;
  /** Where files lie on this machine, links resolved; absent for stores elsewhere. Fails with `refused` for one that a link leads out of the storage. */
  localPaths?(paths: readonly string[]): Promise<Map<string, string>>;
  /** Takes a finished file of this machine in, whole or not at all, over what stands there. The file given is gone afterwards. */
  putFile(path: string, localFile: string): Promise<void>;
  /** Copies a file to this machine. Fails with `not-found` when there is none. */
  fetchFile(path: string, localFile: string): Promise<void>;
  /** Whether there is such a folder, be it empty. */
  hasFolder(folder: string): Promise<boolean>;
  /** Makes an empty folder, where the store has such. */
  makeFolder(folder: string): Promise<void>;
  /** What was passed over in a container, in words. */
  containerNotes?(path: string): Promise<string[]>;
  /** Moves one file, over what stands there. */
  move(from: string, to: string): Promise<void>;
  /** Removes a folder that holds no file, with the empty folders in it. */
  removeFolder(folder: string): Promise<void>;
}
