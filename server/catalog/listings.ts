/** The listings of plain folders, kept in the catalog: what makes a folder's versions. */
import { listingKey, type Listing, type ListingLog } from '../../core/folder/table';
import type { ObjectInfo } from '../../core/storage/object-store';
import type { Sql } from './database';

/** Older listings of a folder than these are forgotten. */
const KEPT = 200;

interface ListingRow {
  version: number;
  at: string;
  files: [path: string, bytes: number, modified: number, etag?: string][];
}

export class CatalogListings implements ListingLog {
  #last: { listing: Listing; key: string } | undefined;

  constructor(
    readonly sql: Sql,
    readonly storageId: number,
    readonly location: string,
  ) {}

  async all(): Promise<Listing[]> {
    const rows = await this.sql.query<ListingRow>('SELECT version, at, files FROM folder_listing WHERE storage_id = $1 AND location = $2 ORDER BY version', [this.storageId, this.location]);
    return rows.map(asListing);
  }

  async record(files: ObjectInfo[]): Promise<Listing> {
    const key = listingKey(files);
    const last = this.#last ?? (await this.#read());
    if (last && last.key === key) return last.listing;
    const listing: Listing = { version: (last?.listing.version ?? 0) + 1, at: Date.now(), files };
    await this.sql.query(
      'INSERT INTO folder_listing (storage_id, location, version, at, files) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING',
      [this.storageId, this.location, listing.version, new Date(listing.at), JSON.stringify(files.map((file) => [file.path, file.bytes, file.modified, ...(file.etag === undefined ? [] : [file.etag])]))],
    );
    await this.sql.query('DELETE FROM folder_listing WHERE storage_id = $1 AND location = $2 AND version <= $3', [this.storageId, this.location, listing.version - KEPT]);
    this.#last = { listing, key };
    return listing;
  }

  async #read(): Promise<{ listing: Listing; key: string } | undefined> {
    const [row] = await this.sql.query<ListingRow>('SELECT version, at, files FROM folder_listing WHERE storage_id = $1 AND location = $2 ORDER BY version DESC LIMIT 1', [this.storageId, this.location]);
    if (!row) return undefined;
    const listing = asListing(row);
    this.#last = { listing, key: listingKey(listing.files) };
    return this.#last;
  }
}

function asListing(row: ListingRow): Listing {
  return { version: row.version, at: new Date(row.at).getTime(), files: row.files.map(([path, bytes, modified, etag]) => ({ path, bytes, modified, ...(etag === undefined ? {} : { etag }) })) };
}
