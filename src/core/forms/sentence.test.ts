import { describe, expect, it } from 'vitest';
import { contrast } from '../newsletters/identity';
import { startingForm } from './definition';
import { newField } from './fields';
import { effectiveLook, LINE_FROM, LOOKS, STARTING_LOOK } from './look';
import { partsOf, textOf, withText } from './parts';
import { PLACEMENTS, type Placement, STARTING_PLACEMENT } from './placement';
import { formHtml, thanksHtml } from './render';
import { FORM_CLAUSES, formInWords, formSentences } from './sentence';
import { imitationPage, standCss, standing } from './stand';
import { FORM_WORDS } from './words';

const start = startingForm('Lanternfish Letters');
const placed = (part: Partial<Placement>) => ({ ...start, placement: { ...STARTING_PLACEMENT, ...part } });
const facts = { lists: [{ name: 'Thursday letters', doubleOptIn: true }], sender: 'Ottoline Vance' };

describe('a form in sentences', () => {
  it('reads as one would describe it', () => {
    const form = {
      ...placed({ kind: 'after-post', hide: ['/about'] }),
      next: {
        ...start.next,
        gift: { kind: 'link' as const, label: 'A map of the trench', url: 'https://a.example', fileId: '' },
      },
    };
    expect(formInWords({ ...form, next: { ...form.next, welcome: { on: true, subject: '', words: '' } } }, facts)).toEqual([
      'It stands after each article, on every page but /about, for everyone, always.',
      'In English it asks for Email, and shows no number of readers.',
      'Whoever sends it in joins Thursday letters with no tag, sees thanks in place, and gets the confirmation letter from Ottoline Vance, with one reminder; having confirmed, they see “You are on the list” and get the gift “A map of the trench” and the welcome letter. You are told as the settings say.',
    ]);
  });
  it.each<[Partial<Placement>, string]>([
    [
      { kind: 'ribbon', ribbonAt: 'top' },
      'It comes as a ribbon along the top, after 8 seconds, on every page, for everyone who has not joined, nor closed it in the last 30 days, always.',
    ],
    [
      { kind: 'pop-up', againAfterDays: 0, trigger: { seconds: 1, scroll: 40, leaving: true, click: '.join' } },
      'It comes as a pop-up over the page, after 1 second or once 40% of the page is read or when the pointer leaves the page or when .join is clicked, on every page, for everyone who has neither joined nor closed it, always.',
    ],
    [
      { kind: 'corner card', trigger: { seconds: 0, scroll: 0, leaving: false, click: '' }, show: ['/a', '/b', '/c', '/d'] },
      'It comes as a card in the corner where lines end, at once, on /a, /b and 2 more, for everyone who has not joined, nor closed it in the last 30 days, always.',
    ],
    [
      { kind: 'panel', from: '2026-12-01', to: '2026-12-24' },
      'It stands as a panel where its line stands, on every page, for everyone, from 1 December 2026 to 24 December 2026.',
    ],
    [
      { kind: 'one line', from: '2026-12-01' },
      'It stands as one line where its line stands, on every page, for everyone, from 1 December 2026 on.',
    ],
  ])('%j', (part, words) => expect(formInWords(placed(part), facts)[0]).toBe(words));
  it('never speaks of a confirmation that nobody asks for', () => {
    const said = formInWords(start, { ...facts, lists: [{ name: 'Open', doubleOptIn: false }] })[2]!;
    expect(said).toContain('no confirmation letter, since no list of it asks for one');
    expect(said).not.toContain('having confirmed');
  });
  it('has each choice in one place only, and leaves none out where it comes over the page', () => {
    for (const kind of PLACEMENTS) {
      const clauses = formSentences(placed({ kind }), facts).flatMap((pieces) =>
        pieces.flatMap((piece) => (typeof piece === 'string' ? [] : [piece.clause])),
      );
      expect(new Set(clauses).size).toBe(clauses.length);
      const over = ['ribbon', 'corner card', 'pop-up'].includes(kind);
      expect(FORM_CLAUSES.filter((clause) => !clauses.includes(clause))).toEqual(over ? [] : ['moment', 'whom']);
    }
  });
});

describe('the parts of a form', () => {
  const asking = {
    ...start,
    fields: [...start.fields, newField('why', 'text', 'Why'), newField('secret', 'hidden', 'Hidden')],
    consent: 'I agree',
    terms: { words: 'Rules', url: '' },
    countFrom: 10,
    listChoice: ['x'],
    look: { ...start.look, picture: { url: 'https://a.example/p.png', alt: '', stands: 'above' as const } },
  };
  it.each(PLACEMENTS)('%s: each that can be seen is marked where it stands, and has a name', (kind) => {
    const form = { ...asking, placement: { ...STARTING_PLACEMENT, kind } };
    const html = standing(form, formHtml({ form, action: '#', marked: true, lists: [{ id: 'x', name: 'X' }], readers: 20 }));
    const marked = [...html.matchAll(/data-part="([^"]+)"/g)].map((found) => found[1]);
    const parts = partsOf(form, false);
    expect(new Set(parts.map(({ id }) => id)).size).toBe(parts.length);
    expect(new Set([...marked, 'field:secret', ...(html.includes('ink-close') ? ['close'] : [])])).toEqual(
      new Set(parts.map(({ id }) => id)),
    );
    for (const { id, name } of parts) {
      expect(name).not.toBe('');
      const text = textOf(form, id);
      if (text !== null) expect(textOf(withText(form, id, `${text}!`), id)).toBe(`${text}!`);
    }
    // What visitors get names nothing.
    expect(formHtml({ form, action: '#' })).not.toContain('data-part');
  });
});

describe('what comes over a page', () => {
  it.each(Object.keys(LOOKS))('%s: its cross can be read on its ground in light and dark, and comes first', (name) => {
    for (const inherits of [true, false]) {
      const look = effectiveLook(
        { ...STARTING_LOOK, ...LOOKS[name], inherits, dark: { on: true, background: '#14171d', ink: '' } },
        '#5a7d8c',
      );
      for (const kind of ['ribbon', 'corner card', 'pop-up'] as const) {
        const form = { ...placed({ kind }), look };
        const css = standCss(form);
        const crosses = [...css.matchAll(/\.ink-close\{[^}]*color:(#[0-9a-f]{6});background:(#[0-9a-f]{6})/g)];
        expect(crosses).toHaveLength(2);
        for (const [, ink, ground] of crosses) expect(contrast(ink!, ground!)).toBeGreaterThanOrEqual(4.5);
        expect(css).toContain('width:44px;height:44px');
        const html = standing(form, formHtml({ form, action: '#' }));
        expect(html.indexOf('ink-close')).toBeLessThan(html.indexOf('<input'));
        expect(standing(form, thanksHtml(form))).toContain('ink-close');
      }
    }
  });
  it('has a cross that can be read even where the writer’s own ink cannot', () => {
    const look = effectiveLook({ ...STARTING_LOOK, inherits: false, background: '#222222', ink: '#333333' }, '#000000');
    const [, ink] = /\.ink-close\{[^}]*color:(#[0-9a-f]{6})/.exec(standCss({ ...placed({ kind: 'pop-up' }), look }))!;
    expect(contrast(ink!, '#222222')).toBeGreaterThanOrEqual(4.5);
  });
  it('says its name and its cross in the language of the form', () => {
    for (const [tag, words] of Object.entries(FORM_WORDS)) {
      const form = { ...startingForm('X', tag), placement: { ...STARTING_PLACEMENT, kind: 'pop-up' as const } };
      const html = standing(form, '');
      expect(html).toContain(`aria-label="${words.close}"`);
      expect(html).toContain('role="dialog"');
    }
  });
  it('is drawn on the imitation of a page by the same rules as on a real one', () => {
    for (const kind of PLACEMENTS) {
      const form = placed({ kind });
      const inner = formHtml({ form, action: '#' });
      const page = imitationPage(form, inner);
      expect(page).toContain(`<style>${standCss(form)}</style>${standing(form, inner)}</template>`);
    }
    expect(standCss(placed({ kind: 'one line' }))).toContain(`(${LINE_FROM - 40}px - 100%)*999`);
  });
});
