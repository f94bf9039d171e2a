// Packs the built files once, so that the server sends them packed without packing anything itself.
import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { brotliCompressSync, constants, gzipSync } from 'node:zlib';

const files = (dir) =>
  readdirSync(dir).flatMap((name) => {
    const path = join(dir, name);
    return statSync(path).isDirectory() ? files(path) : [path];
  });

let script = 0;
for (const path of files('dist').filter((p) => /\.(html|js|css|svg)$/.test(p))) {
  const text = readFileSync(path);
  const br = brotliCompressSync(text, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } });
  writeFileSync(`${path}.br`, br);
  writeFileSync(`${path}.gz`, gzipSync(text, { level: 9 }));
  if (path.endsWith('.js')) script += br.length;
}
console.log(`packed; all scripts together ${(script / 1000).toFixed(1)} kB compressed`);
