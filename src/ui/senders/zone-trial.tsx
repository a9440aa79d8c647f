'use client';

import { useState, useTransition } from 'react';
import type { ActionResult, FaultValue } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import type { Judgement } from '@/core/senders/judge';
import type { WantedRecord } from '@/core/senders/records';
import { Button } from '../kit/button';
import { Note, Section } from '../kit/page';
import { RecordLedger } from './record-ledger';

type Preview = {
  records: (WantedRecord & { judgement: Judgement })[];
  read: number;
  faults: { line: number; sentence: string }[];
  state: string;
};

/** A zone file pasted or chosen, and what the check says of it. */
export function ZoneTrial({ attempt }: { attempt: (text: string) => Promise<ActionResult<Preview>> }) {
  const [text, setText] = useState('');
  const [found, setFound] = useState<Preview | null>(null);
  const [fault, setFault] = useState<FaultValue | null>(null);
  const [pending, begin] = useTransition();
  const run = () =>
    begin(async () => {
      const result = await attempt(text);
      setFault(result.ok ? null : result.error);
      setFound(result.ok ? result.value : null);
    });
  return (
    <>
      <label className="block">
        <span className="mb-1 block text-small font-semibold text-ink-2">Zone file</span>
        <textarea
          rows={12}
          value={text}
          spellCheck={false}
          onChange={(event) => setText(event.target.value)}
          className="block w-full rounded-md border bg-sheet p-3 font-mono text-[12.5px] leading-5"
          placeholder={'$ORIGIN lanternfish.example.\n@ IN TXT "v=spf1 …"'}
        />
      </label>
      {fault && (
        <p role="alert" className="mt-3 border-l-2 border-l-stamp pl-3 text-[13px] text-stamp">
          {fault.sentence}
        </p>
      )}
      <div className="mt-3 mb-8 flex flex-wrap items-center gap-4">
        <Button tone="main" onClick={run} disabled={pending} aria-busy={pending}>
          See what it would do
        </Button>
        <input
          type="file"
          aria-label="Choose a zone file"
          className="text-[13px] text-ink-2 file:mr-3 file:rounded-md file:border file:border-solid file:border-rule file:bg-sheet file:px-3 file:py-1.5 file:font-semibold file:text-ink"
          onChange={async (event) => {
            const file = event.target.files?.[0];
            if (file) setText(await file.text());
          }}
        />
      </div>
      {found && (
        <Section title="What mailboxes would find" aside={`${counted(found.read, 'record', 'records')} read`}>
          <Note
            tone={found.state === 'authenticated' ? 'fine' : 'look'}
            title={
              found.state === 'authenticated' ? 'Letters would be signed, aligned and believed' : 'Letters would have to wait'
            }
          />
          {found.faults.map((entry) => (
            <Note key={entry.line} tone="look" title={`Line ${entry.line}`}>
              {entry.sentence}
            </Note>
          ))}
          <RecordLedger records={found.records} />
        </Section>
      )}
    </>
  );
}
