/** Names for tables that would take one name: told apart by the folders they lie in. */
import { tableName } from './names';

export interface Named {
  namespace: string;
  name: string;
  /** The folder, from the storage's root. */
  location: string;
}

/** The names as they are used, in the order of what was given. `taken` has the full names, in lower case, that other tables have. */
export function distinctTableNames(all: readonly Named[], taken: ReadonlySet<string>): string[] {
  const full = (each: Named, name: string) => `${each.namespace}.${name}`.toLowerCase();
  const groups = new Map<string, number[]>();
  for (const [index, each] of all.entries()) groups.set(full(each, each.name), [...(groups.get(full(each, each.name)) ?? []), index]);
  const used = new Set(taken);
  const names = all.map((each) => each.name);
  for (const [name, members] of groups) if (members.length === 1 && !taken.has(name)) used.add(name);
  for (const [shared, members] of groups) {
    if (members.length === 1 && !taken.has(shared)) continue;
    for (const index of members) {
      const each = all[index]!;
      for (const name of longerNames(each)) {
        if (used.has(full(each, name))) continue;
        names[index] = name;
        used.add(full(each, name));
        break;
      }
    }
  }
  return names;
}

/** The name after more and more of the folders above it, then with a number. */
function* longerNames({ name, location }: Named): Generator<string> {
  const parents = location.split('/').filter((step) => step !== '').slice(0, -1).reverse();
  let longer = name;
  for (const parent of parents) yield (longer = `${tableName(parent)}_${longer}`);
  for (let number = 2; ; number++) yield `${name}_${number}`;
}
