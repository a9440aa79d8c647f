import { DateTime } from 'luxon';
import { figure, percent } from '@/core/growth/figures';
import type { Rate } from '@/core/growth/rates';
import { dayOfYear } from '@/core/growth/times';
import { ActionButton, TextField } from '../kit/action-form';
import { ActionDialog } from '../kit/dialog';
import { Note, Section } from '../kit/page';
import { Table } from '../kit/table';

const share = ({ share: of, low, high }: Rate) =>
  `${Math.round(100 * of)}% (${Math.round(100 * low)} to ${Math.round(100 * high)})`;
const perDay = (n: number) => (n < 10 ? n.toFixed(1) : figure(Math.round(n)));
const monthName = (month: string) => DateTime.fromISO(`${month}-01`, { locale: 'en-GB' }).toFormat('LLLL yyyy');

type Cohort = { month: string; asked: number; confirmed: number; reading: number };
type Staying = { name: string; confirmed: number; reading: number; stays: Rate };
type GrowthNote = {
  id: string;
  day: string;
  words: string;
  jump: { after: number; before: number; tone: 'up' | 'down' | 'usual' } | null;
};

/** Those who first came in each month, and what became of them. */
export function Cohorts({ rows }: { rows: Cohort[] }) {
  return (
    <Table
      label="By the month in which they came"
      columns={[
        { title: 'Came in' },
        { title: 'Signed up', figure: true },
        { title: 'Confirmed', figure: true },
        { title: 'Read now', figure: true },
        { title: 'Of those who confirmed', figure: true },
      ]}
      rows={rows.map((row) => ({
        key: row.month,
        cells: [
          monthName(row.month),
          figure(row.asked),
          figure(row.confirmed),
          figure(row.reading),
          percent(Math.min(row.reading, row.confirmed), row.confirmed),
        ],
      }))}
    />
  );
}

/** Which sources bring people who stay, the best and the worst in a sentence where they can be told apart. */
export function Stayers({ rows }: { rows: Staying[] }) {
  const [best, worst] = [rows[0], rows.at(-1)];
  return (
    <>
      {best && worst && best !== worst && (
        <p className="max-w-2xl py-2.5 text-ink-2">
          {best.stays.low > worst.stays.high ? (
            <>
              Who came by <b className="text-ink">{best.name}</b> stays most ({Math.round(100 * best.stays.share)}%), who came by{' '}
              <b className="text-ink">{worst.name}</b> least ({Math.round(100 * worst.stays.share)}%).
            </>
          ) : (
            'So far no source can be said to bring people who stay longer than others.'
          )}
        </p>
      )}
      <Table
        label="Sources whose people stay"
        columns={[
          { title: 'Source' },
          { title: 'Confirmed', figure: true },
          { title: 'Read now', figure: true },
          { title: 'Stay (19 of 20 cases)', figure: true },
        ]}
        rows={rows.map((row) => ({
          key: row.name,
          cells: [
            <span key="n" className="wrap-anywhere">
              {row.name}
            </span>,
            figure(row.confirmed),
            figure(row.reading),
            share(row.stays),
          ],
        }))}
      />
    </>
  );
}

type GoalProps = {
  goal: { readers: number; day: string | null } | null;
  readers: number;
  action: Parameters<typeof ActionDialog>[0]['action'];
};

/** The goal, and when it would be met if it goes on as lately. */
export function Goal({ goal, readers, action }: GoalProps) {
  return (
    <Section title="Goal">
      <p className="py-2.5 text-ink-2">
        {!goal ? (
          'Set how many readers you would like, and this says when it would be met.'
        ) : readers >= goal.readers ? (
          <>
            <b className="text-ink">{figure(goal.readers)}</b> readers: you have them.
          </>
        ) : goal.day ? (
          <>
            <b className="text-ink">{figure(goal.readers)}</b> readers by about{' '}
            {DateTime.fromISO(goal.day, { locale: 'en-GB' }).toFormat('d LLLL yyyy')}, if it goes on as lately.
          </>
        ) : (
          <>
            <b className="text-ink">{figure(goal.readers)}</b> readers: not within three years, if it goes on as lately.
          </>
        )}
      </p>
      <ActionDialog opens={goal ? 'Change it' : 'Set a goal'} title="Your goal" submit="Keep it" done="Kept" action={action}>
        <TextField name="goal" type="number" label="Readers" defaultValue={goal?.readers} hint="Left empty, there is none." />
      </ActionDialog>
    </Section>
  );
}

type NotesProps = {
  notes: GrowthNote[];
  today: string;
  add: Parameters<typeof ActionDialog>[0]['action'];
  drop: (id: string) => Parameters<typeof ActionButton>[0]['action'];
};

/** What was noted of days, and the jump each made. */
export function Notes({ notes, today, add, drop }: NotesProps) {
  return (
    <Section title="Noted" aside="on the time line">
      {notes.length === 0 && (
        <p className="py-2.5 text-ink-2">
          A guest post, a talk, a new form: note the day, and see whether more people joined after it.
        </p>
      )}
      {notes.map(({ id, day, words, jump }) => (
        <Note
          key={id}
          tone={jump?.tone === 'up' ? 'fine' : jump?.tone === 'down' ? 'look' : 'know'}
          title={`${dayOfYear(day)}: ${words}`}
        >
          {jump
            ? jump.tone === 'usual'
              ? `No more than usual joined in the week from then on: ${perDay(jump.after)} a day, ${perDay(jump.before)} before.`
              : `${perDay(jump.after)} a day joined in the week from then on, ${perDay(jump.before)} before.`
            : 'Its week is not over, or too little is known before it.'}{' '}
          <ActionButton tone="quiet" action={drop(id)} done="Taken away">
            Take away
          </ActionButton>
        </Note>
      ))}
      <div className="mt-3">
        <ActionDialog opens="Note a day" title="What happened?" submit="Note it" done="Noted" action={add}>
          <TextField name="day" type="date" label="Day" defaultValue={today} />
          <TextField name="words" label="What happened" placeholder="Guest post at Saltmarsh" />
        </ActionDialog>
      </div>
    </Section>
  );
}
