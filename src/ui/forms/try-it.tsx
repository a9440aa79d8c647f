'use client';

import { Check, Circle, Minus, X } from 'lucide-react';
import { useEffect, useState, useTransition } from 'react';
import type { ActionResult } from '@/core/faults';
import { Button } from '../kit/button';
import { Words } from '../kit/controls';
import { Note } from '../kit/page';

type Step = { step: string; at: string | null; note: string; state: 'done' | 'waiting' | 'skipped' | 'failed' };
type Trial = { id: string; address: string; startedAt: string; steps: Step[]; ended: boolean };
type Props = {
  /** The writer's own address, to begin with. */
  address: string;
  /** Where how far it has come is to be read. */
  status: string;
  start: (address: string) => Promise<ActionResult<{ id: string }>>;
  end: (id: string) => Promise<ActionResult<unknown>>;
};

const SAYS: Record<string, string> = {
  'sent in': 'Sent in',
  'confirmation left': 'Confirmation letter left us',
  'mailbox accepted': 'Your mailbox took it',
  clicked: 'You clicked the button in it',
  reading: 'You are on the list',
  'welcome left': 'Welcome letter left us',
};
const ICONS = { done: Check, waiting: Circle, skipped: Minus, failed: X };
const TONES = { done: 'text-verdigris', waiting: 'text-ink-3', skipped: 'text-ink-3', failed: 'text-stamp' };

/** "at once", "after 4.2 s", "after 3 min" */
function after(from: string, to: string): string {
  const ms = new Date(to).getTime() - new Date(from).getTime();
  if (ms < 50) return 'at once';
  if (ms < 90_000) return `after ${(ms / 1000).toFixed(1)} s`;
  return `after ${Math.round(ms / 60_000)} min`;
}

/** Plays a visitor's way with the writer's own address, and shows each step as it arrives. */
export function TryIt({ address, status, start, end }: Props) {
  const [typed, setTyped] = useState(address);
  const [fault, setFault] = useState('');
  const [trial, setTrial] = useState<string | null>(null);
  const [seen, setSeen] = useState<Trial | null>(null);
  const [busy, begin] = useTransition();
  const complete = seen?.steps.every((step) => step.state === 'done' || step.state === 'skipped') ?? false;

  useEffect(() => {
    if (!trial || complete) return;
    const look = async () => {
      const response = await fetch(`${status}?trial=${trial}`).catch(() => null);
      if (response?.ok) setSeen(await response.json());
    };
    void look();
    const timer = setInterval(() => void look(), 1_000);
    return () => clearInterval(timer);
  }, [trial, status, complete]);

  const send = () =>
    begin(async () => {
      setFault('');
      const result = await start(typed);
      if (!result.ok) return setFault(result.error.sentence);
      setSeen(null);
      setTrial(result.value.id);
    });
  const clean = () =>
    begin(async () => {
      if (trial) await end(trial);
      setTrial(null);
      setSeen(null);
    });

  if (!trial) {
    return (
      <div className="rounded-md border bg-sheet p-3">
        <h3 className="font-serif text-[16px]">Try it yourself</h3>
        <p className="mt-0.5 mb-2 text-small text-ink-2">
          We send the live form in with your address, as a visitor would, and show each step as it happens. Nothing of it is
          counted.
        </p>
        <Words label="Your address" type="email" value={typed} change={setTyped} />
        {fault && (
          <p role="alert" className="mt-1.5 text-small text-stamp">
            {fault}
          </p>
        )}
        <Button className="mt-2.5" disabled={busy} onClick={send}>
          Send it in
        </Button>
      </div>
    );
  }
  const waitsForClick = seen?.steps.find((step) => step.state === 'waiting')?.step === 'clicked';
  return (
    <div className="rounded-md border bg-sheet p-3">
      <h3 className="font-serif text-[16px]">Try it yourself</h3>
      <ol aria-label="Steps of the try" aria-live="polite" className="mt-1">
        {(seen?.steps ?? []).map((step, n, all) => {
          const Icon = ICONS[step.state];
          // The time since the last thing that happened: how long this step took.
          const before = all.slice(0, n).findLast((one) => one.at)?.at ?? seen!.startedAt;
          return (
            <li
              key={step.step}
              data-step={step.step}
              data-state={step.state}
              className="flex gap-2 border-b border-rule-2 py-1.5 text-[13px]"
            >
              <Icon size={15} className={`mt-0.5 shrink-0 ${TONES[step.state]}`} aria-label={step.state} />
              <span className={`min-w-0 flex-1 ${step.state === 'waiting' ? 'text-ink-2' : ''}`}>
                {SAYS[step.step]}
                {step.note && <span className="block text-small break-words text-ink-2">{step.note}</span>}
              </span>
              {step.at && <span className="figures shrink-0 text-small text-ink-2">{after(before, step.at)}</span>}
            </li>
          );
        })}
      </ol>
      {waitsForClick && (
        <div className="mt-2">
          <Note tone="look" title="Now you">
            Open the mailbox of {seen!.address} and click the button in the letter.
          </Note>
        </div>
      )}
      <p role="status" className="mt-2 text-small text-ink-2">
        {complete
          ? 'That is the whole way. Clean up, and nothing of the try is left.'
          : 'Closing this page is fine: what the try made goes by itself after an hour.'}
      </p>
      <Button className="mt-2" disabled={busy} onClick={clean}>
        Clean up
      </Button>
    </div>
  );
}
