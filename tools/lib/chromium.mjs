/** Finds Debian's Chromium for the browser tests, and installs it where we may. */
import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';

const places = [process.env.CHROMIUM_PATH, '/usr/bin/chromium', '/usr/bin/chromium-browser', '/usr/bin/google-chrome'];

export function chromiumPath() {
  return places.find((place) => place && existsSync(place));
}

export function ensureChromium() {
  const found = chromiumPath();
  if (found) return found;
  const isRoot = typeof process.getuid === 'function' && process.getuid() === 0;
  if (isRoot && existsSync('/usr/bin/apt-get')) {
    console.log('Installing Chromium for the browser tests …');
    const env = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' };
    spawnSync('apt-get', ['update', '-qq'], { stdio: 'inherit', env });
    spawnSync('apt-get', ['install', '-y', '-qq', '--no-install-recommends', 'chromium'], { stdio: ['ignore', 'ignore', 'inherit'], env });
  }
  const installed = chromiumPath();
  if (!installed) {
    console.error('The browser tests need Chromium: install it (for example `apt-get install chromium`) or name it in CHROMIUM_PATH.');
    process.exit(1);
  }
  return installed;
}
