// Writes site/index.html: a chart with a bar for each plant.
import { mkdirSync, writeFileSync } from 'node:fs';
import { gaps, tables } from './src/bloom.js';

const [region, year] = process.argv.slice(2);
const bars = Object.entries(tables[region]).map(
  ([plant, [from, to]], i) =>
    `<text x="0" y="${i * 24 + 16}">${plant}</text><rect x="${90 + from * 12}" y="${i * 24 + 4}" width="${(to - from + 1) * 12}" height="14"/>`,
);
mkdirSync('site', { recursive: true });
writeFileSync(
  'site/index.html',
  `<!doctype html><title>Bloom ${year}</title><h1>What blooms on the ${region}, ${year}</h1>
<svg viewBox="0 0 740 ${bars.length * 24}" role="img" aria-label="bloom by week">${bars.join('')}</svg>
<p>Weeks without bloom: ${gaps(region).join(', ')}</p>\n`,
);
console.log(`site/index.html: ${bars.length} plants, ${gaps(region).length} weeks without bloom`);
