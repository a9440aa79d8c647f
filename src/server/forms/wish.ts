import { Fault } from '@/core/faults';
import { type Answers, HONEYPOT, readAnswers, readPageUrl } from '@/core/forms/answers';
import type { FormDefinition } from '@/core/forms/definition';
import { classify, readTouch, type SourceClass, sourceName, type Touch, touchOfVisit } from '@/core/growth/attribution';
import { isZone } from '@/core/zones';
import type { Context } from '../context';
import type { Visitor } from '../readers/visitor';
import type { PublicForm } from './forms';
import { isTooSoon } from './stamp';

/** What a visitor asks for, checked, with where they came from: all that is kept of a form sent in. */
export type Wish = {
  form: PublicForm;
  definition: FormDefinition;
  variant: '' | 'a' | 'b';
  answers: Answers;
  listIds: string[];
  page: string | null;
  referrer: string | null;
  first: Touch | null;
  last: Touch | null;
  sourceClass: SourceClass;
  sourceName: string;
  placement: string;
  /** Their time zone, as their browser says. */
  zone: string | null;
  visitor: Visitor;
  /** The writer's own try that this belongs to. */
  trialId: string | null;
  /** What makes it look like a machine's: filled in what nobody can see, or quicker than most people type. */
  doubt: 'trap' | 'quick' | null;
  /** Was let in by a writer: the address is confirmed whatever its lists ask for. */
  letIn: boolean;
};

/**
 * Reads what was sent in by a form. Throws "invalid" with a sentence a field.
 */
export function readWish(ctx: Context, form: PublicForm, sent: Record<string, string>, visitor: Visitor): Wish {
  const variant = form.test && sent.variant === 'b' ? 'b' : form.test ? 'a' : '';
  const definition = variant === 'b' ? form.test! : form.definition;
  const answers = readAnswers(definition, sent);
  if ('faults' in answers)
    throw new Fault('invalid', Object.values(answers.faults)[0] ?? 'Please look at the form again.', answers.faults);
  const page = readPageUrl(sent.page);
  const referrer = readPageUrl(sent.referrer);
  const visit = touchOfVisit(page ?? '', referrer ?? '', ctx.clock.now().toISOString());
  const first = readTouch(parsed(sent.first)) ?? visit;
  const last = readTouch(parsed(sent.last)) ?? visit;
  const listIds =
    answers.lists === null
      ? form.listIds
      : [...new Set([...form.listIds.filter((id) => !definition.listChoice.includes(id)), ...answers.lists])];
  return {
    form,
    definition,
    variant,
    answers,
    listIds,
    page,
    referrer,
    first,
    last,
    sourceClass: classify(last),
    sourceName: sourceName(last).slice(0, 200),
    placement: (sent.placement || definition.placement.kind).slice(0, 20),
    zone: isZone(sent.zone ?? '') ? sent.zone! : null,
    visitor,
    trialId: null,
    doubt: sent[HONEYPOT] ? 'trap' : isTooSoon(ctx, sent.stamp) ? 'quick' : null,
    letIn: false,
  };
}

function parsed(text: string | undefined): unknown {
  if (!text || text.length > 4_000) return null;
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}
