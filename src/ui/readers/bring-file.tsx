'use client';

import { useRouter } from 'next/navigation';
import { type DragEvent, useState } from 'react';
import type { FaultValue } from '@/core/faults';
import { Button } from '../kit/button';

type Answer = { id?: string } & Partial<FaultValue>;

type Sent = { send: (body: Blob, name: string) => void; share: number | null; fault: string; say: (sentence: string) => void };

/** Sends files to where they are looked at, and goes to what was found in them. How much of it has gone is known. */
function useSending(to: string, base: string): Sent {
  const router = useRouter();
  const [share, setShare] = useState<number | null>(null);
  const [fault, setFault] = useState('');
  const send = (body: Blob, name: string) => {
    setFault('');
    setShare(0);
    const request = new XMLHttpRequest();
    const end = (sentence: string) => {
      setShare(null);
      setFault(sentence);
    };
    request.upload.onprogress = (event) => setShare(event.lengthComputable ? event.loaded / event.total : 0);
    request.onerror = () => end('It could not be sent: we could not be reached. Nothing was brought; try again.');
    request.onload = () => {
      const answer = read(request.responseText);
      if (answer.id) router.push(`${base}/${answer.id}`);
      else end(answer.sentence ?? 'It could not be read. Nothing was brought.');
    };
    request.open('POST', `${to}?name=${encodeURIComponent(name)}`);
    request.setRequestHeader('content-type', 'application/octet-stream');
    request.send(body);
  };
  return { send, share, fault, say: setFault };
}

type FileFieldProps = { label: string; hint: string; accept: string; sending: Sent };

/** A place to choose a file, or to let one fall. */
function FileField({ label, hint, accept, sending }: FileFieldProps) {
  const [over, setOver] = useState(false);
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    const file = event.dataTransfer.files[0];
    if (file && sending.share === null) sending.send(file, file.name);
  };
  return (
    <label
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
      className={`block cursor-pointer rounded-lg border border-dashed p-6 text-center focus-within:outline-2 focus-within:outline-offset-2 focus-within:outline-verdigris ${over ? 'bg-verdigris-tint' : 'bg-sheet'}`}
    >
      <span className="font-serif text-head">Choose a file, or let one fall here</span>
      <span className="mx-auto mt-1 block max-w-md text-ink-2">{hint}</span>
      <input
        type="file"
        aria-label={label}
        accept={accept}
        className="sr-only"
        disabled={sending.share !== null}
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) sending.send(file, file.name);
          event.target.value = '';
        }}
      />
    </label>
  );
}

/** How much of a file has gone, or why it was not taken. */
function Gone({ share, fault }: Sent) {
  return (
    <>
      <div role="status" className="text-[13.5px]">
        {share !== null && (
          <>
            {share < 1 ? `Sending it: ${Math.round(share * 100)} %` : 'Looking at it'}
            <progress className="mt-1 block h-1.5 w-full accent-verdigris" value={share} max={1} aria-label="How much has gone" />
          </>
        )}
      </div>
      {fault && (
        <p role="alert" className="border-l-2 border-l-stamp py-0.5 pl-3 text-[13.5px] text-stamp">
          {fault}
        </p>
      )}
    </>
  );
}

/** Sends the file of a whole newsletter to be looked at. */
export function SendWhole({ to, base }: { to: string; base: string }) {
  const sending = useSending(to, base);
  return (
    <div className="space-y-6">
      <FileField
        label="File of a newsletter"
        hint="The zip that “Export” writes of a whole newsletter, up to 4 GB."
        accept=".zip,application/zip"
        sending={sending}
      />
      <Gone {...sending} />
    </div>
  );
}

/** Sends a file, or pasted text, to be looked at. */
export function BringFile({ to, base }: { to: string; base: string }) {
  const sending = useSending(to, base);
  const [text, setText] = useState('');
  return (
    <div className="space-y-6">
      <FileField
        label="File of readers"
        hint="CSV as any program writes it, up to 250 MB. With names of columns or without, in any encoding."
        accept=".csv,.txt,.tsv,text/csv,text/plain"
        sending={sending}
      />
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (text.trim()) sending.send(new Blob([text]), 'Pasted readers');
          else sending.say('Paste some addresses first.');
        }}
      >
        <label className="block">
          <span className="mb-1 block text-small font-semibold text-ink-2">Or paste them</span>
          <textarea
            rows={5}
            value={text}
            onChange={(event) => setText(event.target.value)}
            placeholder={'Ada Reef <ada@example.com>\nbo@example.com'}
            className="block w-full rounded-md border bg-sheet px-2.5 py-2 font-mono text-[13px] leading-5"
          />
        </label>
        <span className="mt-3 block">
          <Button type="submit" disabled={sending.share !== null}>
            Look at these
          </Button>
        </span>
      </form>
      <Gone {...sending} />
    </div>
  );
}

function read(text: string): Answer {
  try {
    return JSON.parse(text);
  } catch {
    return {};
  }
}
