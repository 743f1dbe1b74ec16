import assert from 'node:assert/strict';
import test from 'node:test';
import { gaps, inBloom } from '../src/bloom.js';

test('the heath blooms late', () => {
  assert.deepEqual(inBloom('heath', 33), ['Heather']);
});

test('a region without a table is an error', () => {
  assert.throws(() => inBloom('moon', 12), /no bloom table for moon/);
});

test('June is a gap on the heath', () => {
  assert.ok(gaps('heath').includes(24));
});
