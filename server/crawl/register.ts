/** From findings that were decided on to the catalog. */
import { LakeError } from '../../core/errors';
import type { TableFormat } from '../../core/table/contract';
import { demand, mayDo, nameOfIdentity, type Identity } from '../access/access';
import type { Database } from '../catalog/database';
import { closeDrift } from '../catalog/drifts';
import { markDecided, markRegistered, type Finding } from '../catalog/findings';
import { createRelation, createRelations, dropRelation, getRelation, listRelations, redefineRelation, type NewRelation } from '../catalog/relations';

export interface Registered {
  registered: string[];
  failed: { name: string; problem: string }[];
}

/** Carries out what was decided: all new tables in one transaction, the rest one by one. What cannot be done is told with its reason. */
export async function registerFindings(database: Database, findings: readonly Finding[], as: Identity): Promise<Registered> {
  const done: Registered = { registered: [], failed: [] };
  const fullName = (finding: Finding) => `${finding.namespace}.${finding.name}`;
  const fail = (finding: Finding, problem: string) => done.failed.push({ name: fullName(finding), problem });
  const isNew = (finding: Finding) => finding.relationId === null && mayDo(as, 'manage', finding);
  const fresh = findings.filter(isNew);
  const made = await createRelations(database, fresh.map(newRelation), nameOfIdentity(as), (sql, ids) => markRegistered(sql, fresh.flatMap((finding, index) => (ids[index] == null ? [] : [{ finding: finding.id, relation: ids[index] }]))));
  for (const [index, finding] of fresh.entries()) {
    if (made[index] === null) fail(finding, `${fullName(finding)} exists in the catalog already. Choose another name.`);
    else done.registered.push(fullName(finding));
  }
  for (const finding of findings.filter((each) => !isNew(each))) {
    try {
      done.registered.push(await registerFinding(database, finding, as));
    } catch (error) {
      if (!(error instanceof LakeError)) throw error;
      fail(finding, error.message);
    }
  }
  return done;
}

function newRelation(finding: Finding): NewRelation {
  return { namespace: finding.namespace, name: finding.name, kind: 'table', format: finding.format as TableFormat, storageId: finding.storageId, location: finding.location, definition: finding.definition! };
}

/** Returns the full name. Fails with `conflict` when the name is taken, `not-found` when the table has left the catalog, `refused` where the right to manage it is missing. */
export async function registerFinding(database: Database, finding: Finding, as: Identity): Promise<string> {
  const fullName = `${finding.namespace}.${finding.name}`;
  demand(as, 'manage', finding);
  const who = nameOfIdentity(as);
  if (finding.relationId === null) {
    await createRelation(database, newRelation(finding), who);
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
