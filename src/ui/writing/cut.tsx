import { lineForAll } from '@/core/writing/line';

/** How many signs of a subject and a preview line are seen: on a phone, and in a wide window. */
const SEEN = { phone: [38, 80], desk: [70, 60] } as const;
const cut = (text: string, most: number) => ([...text].length > most ? `${[...text].slice(0, most - 1).join('')}…` : text);

/** Subject and preview line as a phone and a wide window cut them. */
export function Cut({ subject, preview }: { subject: string; preview: string }) {
  const [said, more] = [lineForAll(subject), lineForAll(preview)];
  if (!said) return null;
  return (
    <dl className="grid gap-2 text-small">
      <div className="rounded-md border bg-sheet p-2">
        <dt className="text-ink-2">On a phone</dt>
        <dd>
          <b className="block break-words">{cut(said, SEEN.phone[0])}</b>
          <span className="break-words text-ink-2">{cut(more, SEEN.phone[1])}</span>
        </dd>
      </div>
      <div className="rounded-md border bg-sheet p-2">
        <dt className="text-ink-2">In a wide window</dt>
        <dd className="break-words">
          <b>{cut(said, SEEN.desk[0])}</b> <span className="text-ink-2">{cut(more, SEEN.desk[1])}</span>
        </dd>
      </div>
    </dl>
  );
}
