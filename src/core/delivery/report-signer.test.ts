import { describe, expect, it } from 'vitest';
import { type Signature, signerOf } from './report-signer';

const by = (domain: string, result: Signature['result'] = 'pass', whole = true): Signature => ({ domain, result, whole });
const FROM = ['noreply@reports.heronmail.example'];

describe('whose word a report is', () => {
  it.each<[string, string[], Signature[], string]>([
    ['of the same organisation, whichever of its names signs', FROM, [by('mx.HeronMail.example')], 'heronmail.example'],
    [
      'of one among several',
      FROM,
      [by('relay.example'), by('heronmail.example', 'fail'), by('heronmail.example')],
      'heronmail.example',
    ],
    ['not of another', FROM, [by('evil.example')], 'bears no signature of heronmail.example'],
    ['not of one whose name ends alike', FROM, [by('evilheronmail.example')], 'bears no signature'],
    ['not of all who share an ending', ['a@one.co.uk'], [by('two.co.uk'), by('co.uk')], 'bears no signature of one.co.uk'],
    ['not of one that does not hold', FROM, [by('heronmail.example', 'fail')], 'does not hold'],
    ['not of one that signs a part', FROM, [by('heronmail.example', 'pass', false)], 'bears no signature'],
    ['nobody’s without a sender', [], [by('heronmail.example')], 'not say in one way'],
    ['nobody’s with two', [...FROM, 'a@evil.example'], [by('heronmail.example'), by('evil.example')], 'not say in one way'],
    ['nobody’s from no domain', ['postmaster'], [by('postmaster')], 'not say in one way'],
  ])('%s', (_, from, signatures, said) => {
    const signer = signerOf(from, signatures);
    expect(JSON.stringify(signer)).toContain(said);
    expect(signer !== 'unanswered' && 'by' in signer).toBe(said === 'heronmail.example');
  });
  it('is not known yet where nobody answers for a key', () => {
    expect(signerOf(FROM, [by('evil.example'), by('heronmail.example', 'unanswered')])).toBe('unanswered');
  });
});
