/** A form and its SQL, each following the other. */
import { ref, shallowRef, watch, type Ref, type ShallowRef } from 'vue';
import { LakeError } from '../../core/errors';

/** A problem of one part of the form, while there is no SQL for it. */
export class FormProblem extends Error {
  constructor(
    readonly part: 'name' | 'columns',
    message: string,
    readonly row?: number,
  ) {
    super(message);
  }
}

export interface SqlForm {
  sql: Ref<string>;
  /** What is wrong with the form; of the text, where. */
  wrong: ShallowRef<FormProblem | undefined>;
  marked: Ref<{ message: string; position: number } | undefined>;
  /** For the editor: the form follows what was typed, once it is understood. */
  onText(text: string): void;
}

/** `sqlOf` may fail with a `FormProblem`, `formOf` with the position of what is not understood; what `sqlOf` looks at beside the form is followed too. */
export function useSqlForm<T extends object>(form: Ref<T>, sqlOf: (form: T) => string, formOf: (sql: string) => T, beside: readonly Ref<unknown>[] = []): SqlForm {
  const sql = ref('');
  const wrong = shallowRef<FormProblem>();
  const marked = ref<{ message: string; position: number }>();
  let fromText = false;
  watch([form, ...beside], () => {
    if (fromText) return void (fromText = false);
    try {
      sql.value = sqlOf(form.value);
      wrong.value = marked.value = undefined;
    } catch (error) {
      if (!(error instanceof FormProblem)) throw error;
      wrong.value = error;
    }
  }, { deep: true, immediate: true });
  return {
    sql, wrong, marked,
    onText(text) {
      if (text === sql.value) return;
      sql.value = text;
      try {
        const read = formOf(text);
        fromText = true;
        form.value = read;
        wrong.value = marked.value = undefined;
      } catch (error) {
        if (!(error instanceof LakeError)) throw error;
        marked.value = { message: error.message, position: error.details.position ?? 0 };
      }
    },
  };
}
