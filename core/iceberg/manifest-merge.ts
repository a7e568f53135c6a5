/** Small manifests are put together as snapshots are made (common practice: the table properties `commit.manifest…`). */
import type { ManifestFile } from './manifest-list';

const TARGET_BYTES = 8 * 1024 * 1024;
const MIN_COUNT = 100;

/** `merge` makes one manifest of several. Those of one spec and content stay in their order, newest first. */
export async function mergeManifests(properties: Record<string, string>, manifests: readonly ManifestFile[], merge: (manifests: readonly ManifestFile[]) => Promise<ManifestFile>): Promise<ManifestFile[]> {
  if (properties['commit.manifest-merge.enabled'] === 'false') return [...manifests];
  const target = positive(properties['commit.manifest.target-size-bytes'], TARGET_BYTES);
  const minCount = positive(properties['commit.manifest.min-count-to-merge'], MIN_COUNT);
  const groups = new Map<string, ManifestFile[]>();
  for (const manifest of manifests) {
    const key = `${manifest.content} ${manifest.specId}`;
    groups.set(key, [...(groups.get(key) ?? []), manifest]);
  }
  const merged: ManifestFile[] = [];
  for (const group of groups.values()) {
    if (group.length < minCount) merged.push(...group);
    else for (const bin of binsOf(group, target)) merged.push(bin.length === 1 ? bin[0]! : await merge(bin));
  }
  return merged;
}

/** Neighbours together up to the target. */
export function binsOf(manifests: readonly ManifestFile[], target: number): ManifestFile[][] {
  const bins: { manifests: ManifestFile[]; bytes: number }[] = [];
  for (const manifest of manifests) {
    const last = bins.at(-1);
    if (last && last.bytes + manifest.bytes <= target) {
      last.manifests.push(manifest);
      last.bytes += manifest.bytes;
    } else bins.push({ manifests: [manifest], bytes: manifest.bytes });
  }
  return bins.map((bin) => bin.manifests);
}

function positive(text: string | undefined, otherwise: number): number {
  const number = Number(text);
  return text !== undefined && Number.isFinite(number) && number > 0 ? number : otherwise;
}
