/** So long work may hold the thread at a time. */
const SLICE_MS = 8;

/** For long work on a thread that others wait for: lets them have their turn when so much time has passed. */
export function pauses(): () => Promise<void> | undefined {
  let since = performance.now();
  return () => {
    if (performance.now() - since < SLICE_MS) return undefined;
    return new Promise((resolve) => {
      setImmediate(() => {
        since = performance.now();
        resolve();
      });
    });
  };
}
