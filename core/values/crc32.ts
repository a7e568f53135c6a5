/** A CRC of 32 bits, least bit first, by its polynomial; the check value and what it begins with are all ones. */
export function crcBy(polynomial: number): (bytes: Uint8Array) => number {
  const table = Uint32Array.from({ length: 256 }, (_, index) => {
    let value = index;
    for (let bit = 0; bit < 8; bit++) value = value & 1 ? (value >>> 1) ^ polynomial : value >>> 1;
    return value >>> 0;
  });
  return (bytes) => {
    let crc = 0xffffffff;
    for (const byte of bytes) crc = table[(crc ^ byte) & 0xff]! ^ (crc >>> 8);
    return (crc ^ 0xffffffff) >>> 0;
  };
}

/** CRC-32 as in ISO 3309 and zip: check value of "123456789" is 0xcbf43926. */
export const crc32 = crcBy(0xedb88320);
