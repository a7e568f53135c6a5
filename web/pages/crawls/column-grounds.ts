/** What a finding says of its columns' types, and the choices there are. */
import type { OtherWay } from '../../../core/text/column-forms';
import type { Finding } from '../../api/types';

export interface Ground {
  name: string;
  type: string;
  why: string;
  isAmbiguous: boolean;
  choices: Pick<OtherWay, 'type' | 'form' | 'label' | 'misfits'>[];
}

/** `telling`: the columns that could well be something else, or are not written in the plain way. */
export function groundsOf(finding: Finding): { all: Ground[]; telling: Ground[] } {
  const forms = finding.definition?.kind === 'folder' && 'forms' in finding.definition.folder.options ? finding.definition.folder.options.forms : {};
  const all = finding.evidence.columns.flatMap((column): Ground[] => {
    if (column.why === undefined) return [];
    const form = forms[column.name];
    // Where two ways fit, keeping what was found is a choice too.
    const choices = (column.others ?? []).filter((other) => column.isAmbiguous || other.type !== column.type || JSON.stringify(other.form) !== JSON.stringify(form));
    return [{ name: column.name, type: column.type, why: column.why, isAmbiguous: column.isAmbiguous ?? false, choices }];
  });
  return { all, telling: all.filter((each) => each.isAmbiguous || forms[each.name] !== undefined || (each.type === 'varchar' && each.choices.length > 0) || each.choices.some((choice) => choice.type !== 'varchar')) };
}
