/** Base85 in the ZeroMQ alphabet (rfc.zeromq.org/spec/32), as deletion vector descriptors use it: 4 bytes, big-endian, in 5 characters. */
import { LakeError } from '../errors';

const ALPHABET = '0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ.-:+=^!/*?&<>()[]{}@%$#';
const VALUES = new Map([...ALPHABET].map((character, index) => [character, index]));

/** Fails when the length is no multiple of 5 or a character is none of the alphabet's. */
export function decodeZ85(text: string): Uint8Array {
  if (text.length % 5 !== 0) throw new LakeError('bad-file', `expected base85 text in groups of 5 characters, found ${text.length} characters`);
  const bytes = new Uint8Array((text.length / 5) * 4);
  const view = new DataView(bytes.buffer);
  for (let group = 0; group * 5 < text.length; group++) {
    let word = 0;
    for (const character of text.slice(group * 5, group * 5 + 5)) {
      const value = VALUES.get(character);
      if (value === undefined) throw new LakeError('bad-file', `"${character}" is no character of base85`);
      word = word * 85 + value;
    }
    if (word > 0xffffffff) throw new LakeError('bad-file', 'a group of base85 characters stands for more than 32 bits');
    view.setUint32(group * 4, word);
  }
  return bytes;
}

/** Bytes are filled up with zeros to a multiple of four. */
export function encodeZ85(bytes: Uint8Array): string {
  const padded = new Uint8Array(Math.ceil(bytes.length / 4) * 4);
  padded.set(bytes);
  const view = new DataView(padded.buffer);
  let text = '';
  for (let at = 0; at < padded.length; at += 4) {
    let word = view.getUint32(at);
    let group = '';
    for (let i = 0; i < 5; i++) {
      group = ALPHABET[word % 85]! + group;
      word = Math.floor(word / 85);
    }
    text += group;
  }
  return text;
}
