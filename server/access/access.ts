/**
 * The one place that decides who may do what. Every door asks here before any work: the catalog protocol, the API with
 * the screens, SQL for every table that it names, and crawls for what they register.
 */
import { LakeError } from '../../core/errors';

/** Each right holds those before it. */
export const RIGHTS = ['see', 'read', 'write', 'manage'] as const;
export type Right = (typeof RIGHTS)[number];

/** A right on everything (`*`), on a namespace with all in it, or on one table or view. */
export interface Grant {
  on: string;
  right: Right;
}

/** Who asks; a job asks as the identity that it runs as. */
export type Identity =
  /** The person at the screens of this machine, who may do everything until there are accounts. */
  | { kind: 'person'; name: string }
  | { kind: 'token'; id: string; name: string; grants: readonly Grant[] };

/** A namespace, or a table or view in it. */
export interface Subject {
  namespace: string;
  name?: string;
}

/** As receipts and revisions name them. */
export function nameOfIdentity(identity: Identity): string {
  return identity.kind === 'person' ? identity.name : `${identity.name} (token)`;
}

export function mayDo(identity: Identity, right: Right, subject: Subject): boolean {
  if (identity.kind === 'person') return true;
  return identity.grants.some((grant) => RIGHTS.indexOf(grant.right) >= RIGHTS.indexOf(right) && covers(grant.on, subject));
}

/** Whether a namespace shows up for somebody: by a right on it, on a namespace in it, or on a table in it. */
export function maySeeNamespace(identity: Identity, namespace: string): boolean {
  if (mayDo(identity, 'see', { namespace })) return true;
  return identity.kind === 'token' && identity.grants.some(({ on }) => below(on, namespace));
}

/** The product itself, where nobody asked. */
export const PRODUCT: Identity = { kind: 'person', name: 'Kind Harbor' };

/** A right on everything, storages and settings too. */
export function mayDoEverywhere(identity: Identity, right: Right): boolean {
  return identity.kind === 'person' || identity.grants.some((grant) => grant.on === '*' && RIGHTS.indexOf(grant.right) >= RIGHTS.indexOf(right));
}

/** Fails with `refused`. `what` is what was to be done: "read files by their path". */
export function demandEverywhere(identity: Identity, right: Right, what: string): void {
  if (mayDoEverywhere(identity, right)) return;
  throw new LakeError('refused', `${nameOfIdentity(identity)} may not ${what}: the right to ${right} everything is missing. Nothing was done.`);
}

/** Fails with `refused`, naming the right that is missing; with `not-found` for what may not even be seen. */
export function demand(identity: Identity, right: Right, subject: Subject): void {
  if (mayDo(identity, right, subject)) return;
  const what = subject.name === undefined ? `the namespace ${subject.namespace}` : `${subject.namespace}.${subject.name}`;
  const isVisible = subject.name === undefined ? maySeeNamespace(identity, subject.namespace) : mayDo(identity, 'see', subject);
  if (!isVisible) throw new LakeError('not-found', subject.name === undefined ? `There is no namespace "${subject.namespace}" in the catalog.` : `There is no table ${what} in the catalog.`);
  throw new LakeError('refused', `${nameOfIdentity(identity)} may not ${WORDS[right]} ${what}: the right to ${right} is missing. Nothing was done.`);
}

const WORDS: Record<Right, string> = { see: 'see', read: 'read', write: 'write to', manage: 'manage' };

function covers(on: string, { namespace, name }: Subject): boolean {
  if (on === '*') return true;
  const [granted, within] = [on.toLowerCase(), namespace.toLowerCase()];
  if (granted === within || below(within, granted)) return true;
  return name !== undefined && granted === `${within}.${name.toLowerCase()}`;
}

/** `a.b` is below `a`. */
function below(inner: string, outer: string): boolean {
  return inner.toLowerCase().startsWith(`${outer.toLowerCase()}.`);
}
