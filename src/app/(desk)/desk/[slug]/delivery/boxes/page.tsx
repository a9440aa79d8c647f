import type { Metadata } from 'next';
import { landedWords, MOST_BOXES, PLACES, type Place } from '@/core/delivery/seeds';
import { counted } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { type SeedTest, seedBoxes, seedTests, triableLetters } from '@/server/delivery/seeds';
import { PlaceOf } from '@/ui/delivery/place-of';
import { ActionButton, ActionForm, ChoiceField, TextField } from '@/ui/kit/action-form';
import { Chip, Empty, Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf } from '../../../../../desk';
import { addBox, dropBox, sayPlace, tryLetter } from './actions';

export const metadata: Metadata = { title: 'Where letters land' };

const MAIL = {
  'under way': ['look', 'Under way'],
  delivered: ['fine', 'Taken'],
  'not taken': ['mend', 'Not taken'],
} as const;

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const [boxes, tests, letters] = await Promise.all([
    seedBoxes(ctx, newsletter),
    seedTests(ctx, newsletter),
    triableLetters(ctx, newsletter),
  ]);
  const now = ctx.clock.now();
  return (
    <Screen
      margin={
        <>
          <Section title="Your boxes" aside={boxes.length ? `${boxes.length} of ${MOST_BOXES}` : undefined}>
            <ul>
              {boxes.map((box) => (
                <li key={box.id} className="flex items-center justify-between gap-2 border-b border-rule-2 py-2 text-[13px]">
                  <span className="break-all">{box.address}</span>
                  <ActionButton tone="quiet" action={dropBox.bind(null, slug, box.id)} done="It gets no tests any more">
                    Remove
                  </ActionButton>
                </li>
              ))}
            </ul>
            <Sheet className="mt-3">
              <ActionForm
                action={addBox.bind(null, slug)}
                submit="Add box"
                done="Added"
                clears
                tone={boxes.length ? 'plain' : 'main'}
              >
                <TextField
                  name="address"
                  type="email"
                  label="A mailbox of your own"
                  placeholder="ottoline@heronmail.example"
                  hint="One at each provider where many of your readers are."
                />
              </ActionForm>
            </Sheet>
          </Section>
          <Note tone="know" title="What a box can tell">
            A provider decides for each mailbox. Yours gets letters that it may know; a reader’s may be treated otherwise. Several
            boxes in junk at one provider are a sign, one is a hint.
          </Note>
        </>
      }
    >
      <Standfirst title="Where letters land" trail={[{ label: 'Delivery', href: `/desk/${slug}/delivery` }]}>
        {boxes.length === 0 ? (
          <>Send a letter to mailboxes of your own at several providers, look into them, and say where it lay.</>
        ) : tests.length === 0 ? (
          <>
            <b>{counted(boxes.length, 'box', 'boxes')}</b>; nothing has been sent there yet.
          </>
        ) : (
          <>
            The latest test was sent {spokenTime(tests[0]!.at, now, newsletter.time_zone)}. {landedWords(tests[0]!.copies)}
          </>
        )}
      </Standfirst>
      {boxes.length > 0 && letters.length > 0 && (
        <Section title="Try a letter">
          <ActionForm
            action={tryLetter.bind(null, slug)}
            submit={`Send it to ${counted(boxes.length, 'box', 'boxes')}`}
            className="max-w-md pt-3"
          >
            <ChoiceField
              name="letter"
              label="Letter"
              choices={letters.map(({ id, subject }) => ({ value: id, label: subject }))}
            />
          </ActionForm>
        </Section>
      )}
      {boxes.length > 0 && letters.length === 0 && (
        <Empty title="No letter to try yet">Write one, or let your blog’s next post become one.</Empty>
      )}
      {tests.map((test) => (
        <Section
          key={test.id}
          title={`“${test.subject}”`}
          aside={`${spokenTime(test.at, now, newsletter.time_zone)}, by ${test.byName}`}
        >
          <Copies test={test} slug={slug} />
        </Section>
      ))}
    </Screen>
  );
}

function Copies({ test, slug }: { test: SeedTest; slug: string }) {
  return (
    <Table
      label={`Where “${test.subject}” landed`}
      columns={[{ title: 'Box' }, { title: 'Its mail', hideNarrow: true }, { title: 'Where it lay' }]}
      rows={test.copies.map((copy) => {
        const [tone, words] = MAIL[copy.mail];
        return {
          key: copy.address,
          cells: [
            <span key="a" className="break-all">
              {copy.address}
            </span>,
            <Chip key="m" tone={tone}>
              {words}
            </Chip>,
            copy.mail === 'not taken' ? (
              <span key="p" className="text-small text-ink-2">
                It never came there.
              </span>
            ) : (
              <PlaceOf
                key="p"
                address={copy.address}
                place={copy.place}
                places={Object.entries(PLACES) as [Place, string][]}
                say={sayPlace.bind(null, slug, test.id, copy.address)}
              />
            ),
          ],
        };
      })}
    />
  );
}
