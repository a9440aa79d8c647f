import { createChallenge, verifySolution } from 'altcha-lib';
import { deriveKey } from 'altcha-lib/algorithms/pbkdf2';
import { describe, expect, it } from 'vitest';
import { readAnswers } from './answers';
import { formCodes, SITE_GUIDES } from './codes';
import { startingForm } from './definition';
import { FIELD_KINDS, newField } from './fields';
import { formCss } from './look';
import { formHtml } from './render';
import { sampleAnswers } from './sample';
import { pickedSelectors, readPicked } from './selector';
import { solve } from './work';

const form = startingForm('Lanternfish Letters');

describe('proof of work', () => {
  it('is solved as the library wants it, and good for nothing once it was changed', async () => {
    const how = { algorithm: 'PBKDF2/SHA-256', cost: 3, deriveKey, hmacSignatureSecret: 'a secret of a test' };
    const challenge = await createChallenge({ ...how, keyPrefix: '0' });
    const { solution } = JSON.parse(await solve({ ...challenge, parameters: { ...challenge.parameters, keyPrefix: '0' } }));
    const check = (given: typeof solution) => verifySolution({ ...how, challenge, solution: given });
    expect((await check(solution)).verified).toBe(true);
    expect((await check({ ...solution, counter: solution.counter + 1 })).verified).toBe(false);
  });
});

describe('a picked selector', () => {
  const rungs = [
    { tag: 'p', id: '', classes: [] },
    { tag: 'div', id: '', classes: ['css-1a2b3c', 'post-body'] },
    { tag: 'div', id: 'wrap', classes: ['grid'] },
  ];
  const counts: Record<string, number> = { p: 40, '.post-body': 1, div: 12, '#wrap': 1, '.grid': 3 };
  const countOf = (selector: string) => counts[selector] ?? 0;

  it('is the plainest one that fits the fewest, and never a name that a machine made up', () => {
    expect(pickedSelectors(rungs, countOf).picked).toEqual([
      { selector: 'p', count: 40 },
      { selector: '.post-body', count: 1 },
      { selector: '#wrap', count: 1 },
    ]);
  });
  it('is suggested for what holds an article, else for the outermost', () => {
    expect(pickedSelectors(rungs, countOf).suggested).toBe(1);
    expect(pickedSelectors([rungs[0]!, rungs[2]!], countOf).suggested).toBe(1);
    expect(pickedSelectors([{ tag: 'article', id: '', classes: [] }], () => 1)).toEqual({
      picked: [{ selector: 'article', count: 1 }],
      suggested: 0,
    });
  });
});

describe('sample answers', () => {
  it('pass any form, whatever it has to ask', () => {
    const fields = FIELD_KINDS.map((kind, n) => ({
      ...newField(`f${n}`, kind, kind),
      required: true,
      options: ['one', 'two'],
    }));
    const asking = {
      ...form,
      fields: [...form.fields, ...fields],
      consent: 'I agree.',
      listChoice: ['01890000-0000-7000-8000-000000000000'],
    };
    expect(readAnswers(asking, sampleAnswers(asking, 'me@heronmail.example'))).not.toHaveProperty('faults');
  });
});

describe('the script line', () => {
  const codeOf = (kind: typeof form.placement.kind, more: Partial<typeof form> = {}) =>
    formCodes(
      { publicId: '0'.repeat(12), definition: { ...form, ...more, placement: { ...form.placement, kind } }, lists: [] },
      'https://go.inkset.example',
    ).find((code) => code.kind === 'room')?.code ?? '';

  it('has one beside it that keeps room where the form stands, more for more, and none where it comes over the page or elsewhere', () => {
    const height = (code: string) => Number(/min-height:(?:max\()?(\d+)px/.exec(code)?.[1]);
    expect(height(codeOf('panel'))).toBeGreaterThan(150);
    expect(height(codeOf('panel', { fields: [...form.fields, newField('why', 'long text', 'Why')] }))).toBeGreaterThan(
      height(codeOf('panel')),
    );
    // The narrower the column, the higher the form.
    const [, ...lines] = /min-height:max\((.*?)\)">/.exec(codeOf('panel'))![1]!.split(',');
    const rooms = lines.map((line) => /^(\d+)px - \(100cqw - (\d+)px\)\*[\d.]+$/.exec(line)!.slice(1).map(Number));
    expect(rooms.length).toBeGreaterThan(1);
    for (const [n, [most, at]] of rooms.entries()) {
      expect(most).toBeGreaterThan(rooms[n + 1]?.[0] ?? height(codeOf('panel')));
      expect(at).toBeLessThan(rooms[n + 1]?.[1] ?? 640);
    }
    for (const kind of ['ribbon', 'corner card', 'pop-up', 'after-post'] as const) expect(codeOf(kind)).toBe('');
    expect(height(codeOf('one line'))).toBeLessThan(height(codeOf('panel')));
  });
  it('has a guide for every kind of site, with steps', () => {
    expect(SITE_GUIDES.length).toBeGreaterThanOrEqual(5);
    expect(SITE_GUIDES.every((guide) => guide.steps.length >= 2)).toBe(true);
  });
});

describe('the style of a form', () => {
  it('leaves out what its HTML does not have, and nothing else', () => {
    const html = formHtml({ form, action: '/' });
    const slim = formCss(form.look, 'block', html);
    expect(slim).not.toContain('.ink-tick');
    expect(slim).not.toContain('textarea');
    expect(slim).toContain('.ink-fault');
    const asking = {
      ...form,
      fields: [...form.fields, newField('why', 'long text', 'Why'), newField('often', 'yes/no', 'Often?')],
    };
    const whole = formCss(form.look, 'block', formHtml({ form: asking, action: '/' }));
    expect(whole).toContain('.ink-tick');
    expect(whole).toContain('textarea');
  });
});

describe('what a frame says was picked', () => {
  const one = { selector: 'article', count: 1 };
  it.each<[string, unknown, unknown]>([
    ['what our script says', { inksetPicked: { picked: [one], suggested: 0 } }, { picked: [one], suggested: 0 }],
    ['a suggestion out of range', { inksetPicked: { picked: [one], suggested: 9 } }, { picked: [one], suggested: 0 }],
    ['no number for a suggestion', { inksetPicked: { picked: [one], suggested: 'x' } }, { picked: [one], suggested: 0 }],
    ['some that are none', { inksetPicked: { picked: [null, 7, { selector: 3 }, one] } }, { picked: [one], suggested: 0 }],
    ['nothing picked', { inksetPicked: { picked: [] } }, null],
    ['no list', { inksetPicked: { picked: 'article' } }, null],
    ['null', null, null],
    ['null within', { inksetPicked: null }, null],
    ['a word', 'hello', null],
  ])('%s', (_, said, read) => expect(readPicked(said)).toEqual(read));
});
