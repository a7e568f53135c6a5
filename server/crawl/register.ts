/** From findings that were decided on to the catalog. */
import { LakeError } from '../../core/errors';
import type { TableFormat } from '../../core/table/contract';
import { demand, nameOfIdentity, type Identity } from '../access/access';
import type { Database } from '../catalog/database';
import { closeDrift } from '../catalog/drifts';
import { markDecided, type Finding } from '../catalog/findings';
import { createRelation, dropRelation, getRelation, listRelations, redefineRelation } from '../catalog/relations';

/** Returns the full name. Fails with `conflict` when the name is taken, `not-found` when the table has left the catalog, `refused` where the right to manage it is missing. */
export async function registerFinding(database: Database, finding: Finding, as: Identity): Promise<string> {
  const fullName = `${finding.namespace}.${finding.name}`;
  demand(as, 'manage', finding);
  const who = nameOfIdentity(as);
  if (finding.relationId === null) {
    await createRelation(database, { namespace: finding.namespace, name: finding.name, kind: 'table', format: finding.format as TableFormat, storageId: finding.storageId, location: finding.location, definition: finding.definition! }, who);
    await markDecided(database, finding.id, 'registered', (await getRelation(database, finding.namespace, finding.name)).id);
    return fullName;
  }
  const relation = (await listRelations(database)).find((each) => each.id === finding.relationId);
  if (!relation) throw new LakeError('not-found', `${fullName} has left the catalog since the crawl.`);
  if (finding.status === 'gone') {
    await dropRelation(database, relation, who);
    await markDecided(database, finding.id, 'unregistered', null);
    return fullName;
  }
  await redefineRelation(database, relation, finding.definition!, who);
  await closeDrift(database, relation.id, 'taken over', who);
  await markDecided(database, finding.id, 'registered', relation.id);
  return fullName;
}
