import type { Warning } from '@/core/growth/watch';
import { Note } from '../kit/page';

/** What is out of the usual: each with why as far as it is known, and what to do. */
export function Warnings({ warnings }: { warnings: readonly Warning[] }) {
  return warnings.map((warning) => (
    <Note key={`${warning.kind} ${warning.about}`} tone="look" title={warning.heading}>
      {warning.words.map((words) => (
        <p key={words}>{words}</p>
      ))}
    </Note>
  ));
}
