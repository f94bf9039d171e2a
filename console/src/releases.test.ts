import { describe, expect, it } from 'vitest';
import { buildsOf, lookOf, publicationWord, releaseAddress } from './releases';

describe('releases', () => {
  it('are named by their builds and found by their address', () => {
    expect(buildsOf({ builds: { ios: 7, android: 6 } })).toBe('Android 6, iOS 7');
    expect(releaseAddress({ project: 'tidewick', app: 'almanac', name: '1.5.0+a' })).toBe(
      '/tidewick/releases/almanac/1.5.0%2Ba',
    );
  });
  it('say how they stand where they went', () => {
    const p = { state: 'sending', out_to: 0, sent: 1500, total: 3e6, share: 100 };
    expect(publicationWord(p)).toBe('1.5 kB of 3.0 MB');
    expect(publicationWord({ ...p, state: 'shared', out_to: 10, wants: 'share', share: 50 })).toBe(
      'to 10 %; to share to 50 %',
    );
    expect(publicationWord({ ...p, state: 'halted', out_to: 10, wants: 'withdraw' })).toBe('at 10 %; to withdraw');
    expect(publicationWord({ ...p, state: 'refused' })).toBe('');
    expect(lookOf('out').colour).toBe('state.good');
    expect(lookOf('of a newer service').sign).toBe('·');
  });
});
