'use client';

import { useRouter } from 'next/navigation';
import { type ChangeEvent, useState } from 'react';
import type { ReportRead } from '@/core/delivery/reported';
import type { FaultValue } from '@/core/faults';
import { counted } from '@/core/growth/figures';

type Answer = Partial<ReportRead> & Partial<FaultValue>;
const NOT_REACHED = 'It could not be sent: we could not be reached. Try again.';

const wordsOf = (answer: Answer): string => {
  if (answer.sentence !== undefined) return answer.sentence;
  if (answer.again) return `This report of ${answer.reporter} was read before. It counts once.`;
  return `Read: ${counted(answer.mails ?? 0, answer.kind === 'tls' ? 'connection' : 'mail', answer.kind === 'tls' ? 'connections' : 'mails')}, reported by ${answer.reporter}.`;
};

/** Brings a report that went elsewhere. */
export function UploadReport({ to }: { to: string }) {
  const router = useRouter();
  const [said, setSaid] = useState('');
  const [busy, setBusy] = useState(false);
  const send = async (event: ChangeEvent<HTMLInputElement>) => {
    const files = [...(event.target.files ?? [])];
    event.target.value = '';
    setBusy(true);
    const all: string[] = [];
    for (const file of files) {
      const words = await fetch(`${to}?name=${encodeURIComponent(file.name)}`, {
        method: 'POST',
        body: file,
        headers: { 'content-type': 'application/octet-stream' },
      })
        .then(async (response) => wordsOf((await response.json()) as Answer))
        .catch(() => NOT_REACHED);
      all.push(files.length > 1 ? `${file.name}: ${words}` : words);
      setSaid(all.join(' '));
    }
    setBusy(false);
    router.refresh();
  };
  return (
    <div className="mt-4 flex flex-wrap items-center gap-3">
      <label className="cursor-pointer rounded-md border bg-sheet px-3.5 py-2 text-[13.5px] font-semibold focus-within:outline-2 focus-within:outline-offset-2 focus-within:outline-verdigris">
        {busy ? 'Reading …' : 'Bring a report'}
        <input
          type="file"
          multiple
          accept=".xml,.gz,.zip,.json"
          className="sr-only"
          onChange={(event) => void send(event)}
          disabled={busy}
        />
      </label>
      <p role="status" className="max-w-xl text-small text-ink-2">
        {said || 'As a provider sent it: xml, json, gz or zip.'}
      </p>
    </div>
  );
}
