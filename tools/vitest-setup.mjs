/** Tests that fork the server's processes need them built. */
import { ensureBuilt } from './lib/prepare.mjs';

export default function setup() {
  ensureBuilt();
}
