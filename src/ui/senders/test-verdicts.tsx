import { Check, X } from 'lucide-react';
import type { MailVerdict } from '@/core/delivery/verdicts';

type Letter = { from: string; to: string; response: string; verdicts: MailVerdict[] | null };

/** What a real mailbox thought of the last test letter, check by check. */
export function TestVerdicts({ letter, waits }: { letter: Letter; waits: boolean }) {
  if (!letter.verdicts) {
    return (
      <p className="border-b border-rule-2 py-2.5 text-[13px] text-ink-2" role="status">
        From {letter.from} to {letter.to}.{' '}
        {letter.response
          ? `It was not taken everywhere: ${letter.response}`
          : waits
            ? 'The test mailbox has it and will answer in a moment.'
            : 'The test mailbox has not answered. If the return path is not right yet, it cannot.'}
      </p>
    );
  }
  return (
    <ul aria-label="What the mailbox thought">
      {letter.verdicts.map((verdict) => (
        <li key={verdict.check} className="flex gap-2 border-b border-rule-2 py-2 text-[13px]">
          {verdict.good ? (
            <Check size={15} className="mt-0.5 shrink-0 text-verdigris" aria-hidden />
          ) : (
            <X size={15} className="mt-0.5 shrink-0 text-stamp" aria-hidden />
          )}
          <span className="min-w-0">
            <b>{verdict.check}</b> {verdict.result}
            <span className="block text-small break-all text-ink-2">{verdict.detail}</span>
          </span>
        </li>
      ))}
    </ul>
  );
}
