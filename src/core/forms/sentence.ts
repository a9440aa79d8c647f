import { counted, plural, together } from '../growth/figures';
import { pageWords } from '../readers/page-words';
import type { FormDefinition } from './definition';
import { giftLabel } from './mails';
import { isOver, type Placement } from './placement';

/** What can be chosen in the sentences that tell of a form. */
export const FORM_CLAUSES = [
  'place',
  'moment',
  'pages',
  'whom',
  'days',
  'asks',
  'language',
  'count',
  'lists',
  'tags',
  'after',
  'confirmation',
  'confirmed',
  'gift',
  'welcome',
  'told',
] as const;
export type FormClause = (typeof FORM_CLAUSES)[number];
/** A piece of a sentence: plain words, or words that stand for a choice. */
export type Piece = string | { clause: FormClause; words: string };
export type FormFacts = {
  /** The lists it gives. */
  lists: { name: string; doubleOptIn: boolean }[];
  /** Whom its confirmation letter comes from. */
  sender: string;
};

const say = (clause: FormClause, words: string): Piece => ({ clause, words });

const PLACES: Record<Placement['kind'], (placement: Placement) => string> = {
  panel: () => 'as a panel where its line stands',
  'one line': () => 'as one line where its line stands',
  'after-post': () => 'after each article',
  ribbon: ({ ribbonAt }) => `as a ribbon along the ${ribbonAt}`,
  'corner card': ({ cornerAt }) => `as a card in the corner where lines ${cornerAt === 'end' ? 'end' : 'begin'}`,
  'pop-up': () => 'as a pop-up over the page',
};

function momentOf({ trigger }: Placement): string {
  const ways = [
    trigger.seconds > 0 && `after ${counted(trigger.seconds, 'second', 'seconds')}`,
    trigger.scroll > 0 && `once ${trigger.scroll}% of the page is read`,
    trigger.leaving && 'when the pointer leaves the page',
    trigger.click && `when ${trigger.click} is clicked`,
  ].filter((way) => way !== false && way !== '');
  return ways.length ? ways.join(' or ') : 'at once';
}

function pagesOf({ show, hide }: Placement): string {
  const on = show.length ? together(show) : 'every page';
  return hide.length ? `${on} but ${together(hide)}` : on;
}

const day = (text: string) =>
  new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'long', year: 'numeric', timeZone: 'UTC' }).format(
    new Date(`${text}T12:00:00Z`),
  );
function daysOf({ from, to }: Placement): string {
  if (from && to) return `from ${day(from)} to ${day(to)}`;
  return from ? `from ${day(from)} on` : to ? `until ${day(to)}` : 'always';
}

function whomOf(placement: Placement): string {
  if (!isOver(placement.kind)) return 'everyone';
  const { againAfterDays } = placement;
  return againAfterDays
    ? `everyone who has not joined, nor closed it in the last ${counted(againAfterDays, 'day', 'days')}`
    : 'everyone who has neither joined nor closed it';
}

/**
 * A form in sentences that read as one would describe it: where it stands and for whom; what it asks; what happens next. The same words tell of it
 * everywhere; in the builder each clause is a choice.
 */
export function formSentences(form: FormDefinition, { lists, sender }: FormFacts): Piece[][] {
  const { placement, next } = form;
  const over = isOver(placement.kind);
  const asked = form.fields.filter((field) => field.kind !== 'hidden').map((field) => field.label);
  const language = new Intl.DisplayNames(['en-GB'], { type: 'language' }).of(form.language) ?? form.language;
  const asksToConfirm = lists.length === 0 || lists.some((list) => list.doubleOptIn);
  const given = giftLabel(form);
  const gift = given === null ? 'no gift' : `the gift “${given}”`;
  return [
    [
      over ? 'It comes ' : 'It stands ',
      say('place', PLACES[placement.kind](placement)),
      ...(over ? [', ', say('moment', momentOf(placement))] : []),
      ', on ',
      say('pages', pagesOf(placement)),
      ', for ',
      over ? say('whom', whomOf(placement)) : whomOf(placement),
      ', ',
      say('days', daysOf(placement)),
      '.',
    ],
    [
      'In ',
      say('language', language),
      ' it asks for ',
      say('asks', together(asked, 4)),
      ', and shows ',
      say(
        'count',
        form.countFrom ? `how many read, from ${counted(form.countFrom, 'reader', 'readers')} on` : 'no number of readers',
      ),
      '.',
    ],
    [
      'Whoever sends it in joins ',
      say('lists', together(lists.map((list) => list.name)) || 'no list yet'),
      ' with ',
      say(
        'tags',
        next.tags.length
          ? `the ${plural(next.tags.length, 'tag', 'tags')} ${together(next.tags.map((tag) => `“${tag}”`))}`
          : 'no tag',
      ),
      ', sees ',
      say('after', next.redirect ? 'another page' : 'thanks in place'),
      ', and gets ',
      say(
        'confirmation',
        asksToConfirm
          ? `the confirmation letter from ${sender}${next.reminder ? ', with one reminder' : ''}`
          : 'no confirmation letter, since no list of it asks for one',
      ),
      asksToConfirm ? '; having confirmed, they see ' : '; then they see ',
      say(
        'confirmed',
        next.confirmed.redirect ? 'another page' : `“${next.confirmed.title || pageWords(form.language, '').onList}”`,
      ),
      ' and get ',
      say('gift', gift),
      ' and ',
      say('welcome', next.welcome.on ? 'the welcome letter' : 'no welcome letter'),
      '. You ',
      say('told', next.tellOwners ? 'are told of each' : 'are told as the settings say'),
      '.',
    ],
  ];
}

/** The same sentences as plain text. */
export const formInWords = (form: FormDefinition, facts: FormFacts): string[] =>
  formSentences(form, facts).map((pieces) => pieces.map((piece) => (typeof piece === 'string' ? piece : piece.words)).join(''));
