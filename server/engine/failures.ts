import { LakeError } from '../../core/errors';
import type { EngineFailure } from './messages';

export class EngineError extends Error {
  constructor(
    readonly kind: string,
    message: string,
    readonly position?: number,
  ) {
    super(message);
  }
}

/** An error of the engine, or of ours, as data for the other process. */
export function toFailure(error: unknown): EngineFailure {
  if (error instanceof EngineError) return { kind: error.kind, message: error.message, ...(error.position === undefined ? {} : { position: error.position }) };
  if (error instanceof LakeError) return { kind: error.kind, message: error.message };
  const text = error instanceof Error ? error.message : String(error);
  const json = /^\{.*\}$/s.exec(text);
  if (!json) return { kind: 'unknown', message: text };
  try {
    const { exception_type, exception_message, position } = JSON.parse(text) as { exception_type: string; exception_message: string; position?: string };
    return { kind: exception_type, message: exception_message, ...(position === undefined ? {} : { position: Number(position) }) };
  } catch {
    return { kind: 'unknown', message: text };
  }
}
