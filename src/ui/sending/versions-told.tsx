import type { ReactNode } from 'react';
import { figure, percent } from '@/core/growth/figures';
import { type LetterTest, TRIED_WORDS } from '@/core/sending/letter-test';
import { Chip, Section } from '../kit/page';
import { Table } from '../kit/table';

type Props = {
  test: LetterTest;
  names: string[];
  /** How each has done so far; null before anything was counted. */
  figures: { got: number; back: number; read: number; clicked: number }[] | null;
  counted: { opens: boolean; clicks: boolean };
  /** The version that the rest gets, and the one that was clearly better. */
  winner: number | null;
  clear: number | null;
  /** What it was decided by: of those who got each then, how many did it. */
  arms: { got: number; did: number }[] | null;
  /** What is said of it. */
  children: ReactNode;
  /** What lets one of them go to the rest; null where nobody waits. */
  choose: ((n: number) => ReactNode) | null;
};

/** A letter's versions side by side: who got each, and what they did. */
export function VersionsTold({ test, names, figures, counted, winner, clear, arms, children, choose }: Props) {
  return (
    <Section title={`The ${TRIED_WORDS[test.by].many} it was tried with`} aside="of their first two days">
      <p className="mt-3 max-w-[52rem] text-[13.5px] text-ink-2">{children}</p>
      <Table
        label="Versions"
        columns={[
          { title: TRIED_WORDS[test.by].one.replace(/^./, (letter) => letter.toUpperCase()) },
          ...(arms
            ? [{ title: test.decides === 'clicks' ? 'Clicked, when decided' : 'Opened, when decided', figure: true }]
            : []),
          { title: 'Got it', figure: true },
          { title: 'Came back', figure: true, hideNarrow: true },
          { title: 'Read', figure: true },
          { title: 'Clicked', figure: true },
          ...(choose ? [{ title: 'Choose', silent: true }] : []),
        ]}
        rows={names.map((name, n) => {
          const one = figures?.[n] ?? null;
          const share = (did: number) => (one ? `${figure(did)} · ${percent(did, one.got)}` : '–');
          return {
            key: String(n),
            cells: [
              <span key="n">
                <span className="line-clamp-3">{name || 'the letter’s own'}</span>{' '}
                {clear === n ? <Chip tone="fine">did better</Chip> : winner === n && <Chip tone="know">the rest gets it</Chip>}
              </span>,
              ...(arms ? [arms[n] ? `${figure(arms[n].did)} of ${figure(arms[n].got)}` : '–'] : []),
              one ? figure(one.got) : '–',
              one ? `${figure(one.back)} · ${percent(one.back, one.got + one.back)}` : '–',
              counted.opens ? share(one?.read ?? 0) : 'not counted',
              counted.clicks ? share(one?.clicked ?? 0) : 'not counted',
              ...(choose ? [choose(n)] : []),
            ],
          };
        })}
      />
    </Section>
  );
}
