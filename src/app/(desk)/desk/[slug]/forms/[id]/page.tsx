import type { Metadata } from 'next';
import Link from 'next/link';
import { formCodes, siteSnippet } from '@/core/forms/codes';
import { effectiveLook } from '@/core/forms/look';
import { counted, figure, percent } from '@/core/growth/figures';
import { wordOf } from '@/core/growth/measures';
import { rate } from '@/core/growth/rates';
import { fieldsOf } from '@/server/forms/fields';
import { formOf, formsOf } from '@/server/forms/forms';
import { heldCounts, MOST_HELD } from '@/server/forms/held';
import { stepsOf } from '@/server/forms/insight';
import { usualLayout } from '@/server/mail/looks';
import { listsOf, totalsOf } from '@/server/readers/readers';
import { voicesOf } from '@/server/senders/senders';
import { Builder } from '@/ui/forms/builder';
import { Note } from '@/ui/kit/page';
import { deskOf, orNotFound } from '../../../../../desk';
import { addPicture, endTry, giveFile, keepDraft, publish, showPage, tryForm } from '../actions';

export const metadata: Metadata = { title: 'Form' };

type Props = { params: Promise<{ slug: string; id: string }>; searchParams: Promise<{ again?: string }> };

/** A form, made where it stands. */
export default async function Page({ params, searchParams }: Props) {
  const { slug, id } = await params;
  const { again } = await searchParams;
  const { ctx, newsletter, person } = await deskOf(slug);
  const form = await orNotFound(formOf(ctx, newsletter, id));
  const [lists, known, voices, steps, held, totals, all, layout] = await Promise.all([
    listsOf(ctx, newsletter),
    fieldsOf(ctx, newsletter),
    voicesOf(ctx.db, [newsletter.id]),
    stepsOf(ctx, newsletter, 28, form.id),
    heldCounts(ctx, newsletter),
    totalsOf(ctx, newsletter),
    formsOf(ctx, newsletter),
    usualLayout(ctx.db, newsletter.id),
  ]);
  const live = { ...form.definition, look: effectiveLook(form.definition.look, newsletter.colour) };
  const written = form.draft ?? form;
  const signedUp = rate(steps.asked, steps.loaded);
  const figures: [word: string, value: number, beside: string][] = [
    [wordOf('shown'), steps.loaded, `${figure(steps.seen)} really seen`],
    [
      wordOf('signedUp'),
      steps.asked,
      signedUp ? `${percent(steps.asked, steps.loaded)}, surely ${percent(signedUp.low, 1)} to ${percent(signedUp.high, 1)}` : '',
    ],
    [wordOf('confirmed'), steps.confirmed, steps.asked ? percent(steps.confirmed, steps.asked) : ''],
    [wordOf('reading'), steps.reading, steps.confirmed ? `${percent(steps.reading, steps.confirmed)} of those` : ''],
  ];
  const heldHere = held.get(form.id) ?? 0;
  const base = `/desk/${slug}/forms/${id}/figures`;
  return (
    <Builder
      // The builder keeps what is typed; only when the server has put something else in its place does it begin anew.
      key={`${form.version}-${again ?? ''}`}
      written={{ name: form.name, definition: written.definition, listIds: written.listIds }}
      savedAt={form.draft?.savedAt ?? form.updatedAt}
      version={form.version}
      isDraft={form.draft !== null}
      newsletter={{
        name: newsletter.name,
        colour: newsletter.colour,
        site: newsletter.site,
        reading: totals.reading,
      }}
      dress={{ look: layout.look, accent: newsletter.accent }}
      lists={lists.map(({ id: listId, name, publicName, reading, doubleOptIn }) => ({
        id: listId,
        name,
        publicName,
        reading,
        doubleOptIn,
      }))}
      known={known}
      others={all.filter((other) => other.id !== form.id && !other.archivedAt).map((other) => other.name)}
      // Those that may speak, in the order in which single letters choose.
      senders={voices.map(({ id: voice, name, address }) => ({ id: voice, name, from: `${name} <${address}>` }))}
      codes={formCodes(
        {
          publicId: form.publicId,
          definition: live,
          lists: lists
            .filter((list) => live.listChoice.includes(list.id))
            .map((list) => ({ id: list.id, name: list.publicName })),
        },
        ctx.config.linkOrigin,
      )}
      snippet={siteSnippet(ctx.config.linkOrigin)}
      zone={newsletter.time_zone}
      back={`/desk/${slug}/forms`}
      keep={keepDraft.bind(null, slug, id)}
      publish={publish.bind(null, slug, id)}
      giveFile={giveFile.bind(null, slug)}
      addPicture={addPicture.bind(null, slug)}
      loadPage={showPage.bind(null, slug)}
      trial={{
        address: person.email,
        status: `/desk/${slug}/forms/${id}/try`,
        start: tryForm.bind(null, slug, id),
        end: endTry.bind(null, slug),
      }}
    >
      <section>
        <h2 className="border-b pb-2 font-serif text-head">Its last 28 days</h2>
        <dl className="figures">
          {figures.map(([word, value, beside]) => (
            <div key={word} className="flex items-baseline gap-2 border-b border-rule-2 py-2">
              <dt className="flex-1">{word}</dt>
              <dd className="text-right">
                <b>{figure(value)}</b> {beside && <span className="block text-small text-ink-2">{beside}</span>}
              </dd>
            </div>
          ))}
        </dl>
        {form.archivedAt && (
          <Note tone="look" title="This form is put away">
            Pages that still carry it show nothing.
          </Note>
        )}
        {heldHere > 0 && (
          <Note
            tone="look"
            title={
              heldHere >= MOST_HELD
                ? `${figure(MOST_HELD)} or more were held back`
                : `${counted(heldHere, 'was', 'were')} held back`
            }
            action={{ label: 'Look at them', href: `${base}#held` }}
          >
            They looked like a machine’s and showed no work.
          </Note>
        )}
        <p className="mt-3 text-[13px]">
          <Link href={base} className="link">
            All its figures, tests and versions
          </Link>
        </p>
      </section>
    </Builder>
  );
}
