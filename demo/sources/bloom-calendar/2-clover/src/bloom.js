// What blooms when: the first and last week of the year, by plant and region.
export const tables = {
  heath: { Hazel: [6, 11], Willow: [11, 16], Clover: [22, 29], Heather: [31, 38] },
  coast: { Hazel: [4, 9], Blackthorn: [12, 16], Clover: [21, 28], 'Sea aster': [29, 37] },
};

// inBloom lists the plants that bloom in a week.
export function inBloom(region, week) {
  const table = tables[region];
  if (!table) throw new Error(`no bloom table for ${region}`);
  return Object.keys(table).filter((plant) => week >= table[plant][0] && week <= table[plant][1]);
}

// gaps lists the weeks of the season, 10 to 40, in which nothing blooms.
export function gaps(region) {
  return Array.from({ length: 31 }, (_, i) => i + 10).filter((week) => inBloom(region, week).length === 0);
}
