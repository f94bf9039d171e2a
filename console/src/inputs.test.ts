import { describe, expect, it } from 'vitest';
import type { Input } from './api/client';
import { complaint, initialText } from './inputs';

const input = (more: Partial<Input>): Input => ({ name: 'x', ...more }) as Input;

describe('initialText', () => {
  it('is the default', () => {
    expect(initialText(input({ default: 'beta' }))).toBe('beta');
    expect(initialText(input({ kind: 'number', default: 3 }))).toBe('3');
    expect(initialText(input({ kind: 'flag', default: true }))).toBe('true');
  });
  it('is what the service takes when there is none', () => {
    expect(initialText(input({}))).toBe('');
    expect(initialText(input({ kind: 'flag' }))).toBe('false');
    expect(initialText(input({ kind: 'choice', choices: ['a', 'b'] }))).toBe('a');
    expect(initialText(input({ kind: 'choice', choices: ['a', 'b'], required: true }))).toBe('');
  });
});

describe('complaint', () => {
  it('asks for what must be given, and for no more', () => {
    expect(complaint(input({ required: true }), '')).toContain('must be given');
    expect(complaint(input({ pattern: 'a+' }), '')).toBe('');
  });
  it('knows numbers', () => {
    for (const ok of ['1', '-2.5', '1e3']) expect(complaint(input({ kind: 'number' }), ok)).toBe('');
    for (const bad of ['many', '1,5', '1 2'])
      expect(complaint(input({ kind: 'number' }), bad)).toBe('This is no number.');
  });
  it('holds the whole text against the pattern', () => {
    expect(complaint(input({ pattern: 'a|b' }), 'ab')).toContain('must match');
    expect(complaint(input({ pattern: 'a|b' }), 'b')).toBe('');
  });
  it('leaves a pattern it cannot read to the service', () => {
    expect(complaint(input({ pattern: '(?P<x>a)' }), 'b')).toBe('');
  });
});
