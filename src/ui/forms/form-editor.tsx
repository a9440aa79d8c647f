'use client';

import clsx from 'clsx';
import { CheckCircle2, CircleAlert } from 'lucide-react';
import Link from 'next/link';
import { type ReactNode, useEffect, useRef, useState } from 'react';
import type { ActionResult } from '@/core/faults';
import type { FormCode } from '@/core/forms/codes';
import { EMAIL_FIELD, FIRST_NAME_FIELD, type FormDefinition } from '@/core/forms/definition';
import { formCss, formHtml, thanksHtml } from '@/core/forms/render';
import { figure, percent } from '@/core/growth/figures';
import { Copy } from '../kit/copy';

type Form = { name: string; definition: FormDefinition; listIds: string[]; updatedAt: Date };
type Props = {
  form: Form;
  counts: { loaded: number; sentIn: number; confirmed: number };
  lists: { id: string; name: string; reading: number }[];
  codes: FormCode[];
  colour: string;
  zone: string;
  back: string;
  keep: (form: { name: string; definition: FormDefinition; listIds: string[] }) => Promise<ActionResult<{ updatedAt: Date }>>;
};
type Saved = { kind: 'saved'; at: Date } | { kind: 'typing' } | { kind: 'fault'; sentence: string };

const BOX = 'block w-full rounded-md border bg-sheet px-2.5 py-2 text-[13.5px] leading-5';
const VIEWS = ['On a page', 'On a phone', 'After sending'] as const;

/** Edits a form with its live preview. Every change saves itself and is seen to be saved; pages that carry the form follow. */
export function FormEditor({ form, counts, lists, codes, colour, zone, back, keep }: Props) {
  const [name, setName] = useState(form.name);
  const [definition, setDefinition] = useState(form.definition);
  const [listIds, setListIds] = useState(form.listIds);
  const [saved, setSaved] = useState<Saved>({ kind: 'saved', at: form.updatedAt });
  const [view, setView] = useState<(typeof VIEWS)[number]>('On a page');
  const first = useRef(true);
  const turn = useRef(0);

  useEffect(() => {
    if (first.current) {
      first.current = false;
      return;
    }
    setSaved({ kind: 'typing' });
    const mine = ++turn.current;
    const timer = setTimeout(async () => {
      const away: ActionResult<{ updatedAt: Date }> = {
        ok: false,
        error: { code: 'unreachable', sentence: 'We could not be reached; what you typed is still here.' },
      };
      const result = await keep({ name, definition, listIds }).catch(() => away);
      if (mine !== turn.current) return;
      setSaved(
        result.ok ? { kind: 'saved', at: new Date(result.value.updatedAt) } : { kind: 'fault', sentence: result.error.sentence },
      );
    }, 600);
    return () => clearTimeout(timer);
  }, [name, definition, listIds, keep]);

  const set = (part: Partial<FormDefinition>) => setDefinition((now) => ({ ...now, ...part }));
  const asksName = definition.fields.some((field) => field.name === 'first_name');
  const text = (label: string, value: string, change: (value: string) => void, long = false) => {
    const props = { value, onChange: (event: { target: { value: string } }) => change(event.target.value), className: BOX };
    return (
      // biome-ignore lint/a11y/noLabelWithoutControl: the control is inside, in one of two kinds
      <label className="block">
        <span className="mb-1 block text-small font-semibold text-ink-2">{label}</span>
        {long ? <textarea rows={3} {...props} /> : <input type="text" {...props} />}
      </label>
    );
  };
  const html = view === 'After sending' ? thanksHtml(definition) : formHtml({ form: definition, action: '#', colour });
  const lines = (count: number) =>
    Array.from(
      { length: count },
      (_, n) => `<div style="height:11px;margin:0 0 10px;width:${[100, 96, 99, 92, 60][n % 5]}%;background:#ebecf0"></div>`,
    ).join('');
  const page = `<!doctype html><html lang="en"><style>body{margin:0;padding:34px ${view === 'On a phone' ? 16 : 72}px;background:#fff}${formCss(colour)}</style>${
    view === 'After sending' ? '' : lines(5)
  }<div style="margin:26px 0">${html}</div>${view === 'After sending' ? '' : lines(3)}</html>`;

  return (
    <main id="matter" className="mx-auto grid max-w-[1440px] gap-x-7 gap-y-6 px-4 py-5 sm:px-7 lg:grid-cols-[316px_1fr]">
      <div>
        <nav aria-label="Where you are" className="text-small text-ink-2">
          <Link href={back} className="link">
            Forms
          </Link>{' '}
          /
        </nav>
        <input
          aria-label="Name of the form"
          value={name}
          onChange={(event) => setName(event.target.value)}
          className="w-full rounded-sm bg-transparent font-serif text-[27px] leading-9"
        />
        <p className="mb-4 text-small text-ink-2">Only you see this name. Say where the form will stand.</p>

        <Part title="What it asks" aside={`${definition.fields.length} ${definition.fields.length === 1 ? 'field' : 'fields'}`}>
          <label className="flex items-start gap-2.5">
            <input
              type="checkbox"
              className="mt-0.5 size-4 accent-verdigris"
              checked={asksName}
              onChange={(event) =>
                set({
                  fields: event.target.checked
                    ? [FIRST_NAME_FIELD, ...definition.fields]
                    : [definition.fields.find((f) => f.name === 'email') ?? EMAIL_FIELD],
                })
              }
            />
            <span>
              <b className="block text-[13.5px]">First name</b>
              <span className="text-small text-ink-2">may be left empty by the visitor</span>
            </span>
          </label>
          <p className="text-small text-ink-2">The email address is always asked.</p>
        </Part>
        <Part title="What it says">
          {text('Heading', definition.heading, (heading) => set({ heading }))}
          {text('Words under it', definition.words, (words) => set({ words }), true)}
          {text('Button', definition.button, (button) => set({ button }))}
          {text('Thanks, after sending', definition.thanks, (thanks) => set({ thanks }), true)}
        </Part>
        <Part title="Lists it gives">
          {lists.map((list) => (
            <label key={list.id} className="flex items-center gap-2.5">
              <input
                type="checkbox"
                className="size-4 accent-verdigris"
                checked={listIds.includes(list.id)}
                onChange={(event) =>
                  setListIds(event.target.checked ? [...listIds, list.id] : listIds.filter((id) => id !== list.id))
                }
              />
              <span className="flex-1">{list.name}</span>
              <span className="figures text-small text-ink-2">{figure(list.reading)} reading</span>
            </label>
          ))}
        </Part>
      </div>

      <div className="min-w-0">
        <div className="mb-3 flex flex-wrap items-center justify-between gap-3">
          <div role="tablist" aria-label="Preview" className="inline-flex overflow-hidden rounded-md border">
            {VIEWS.map((label) => (
              <button
                key={label}
                type="button"
                role="tab"
                aria-selected={view === label}
                onClick={() => setView(label)}
                className={clsx(
                  'border-r px-3 py-1.5 text-[13px] font-medium last:border-r-0',
                  view === label ? 'bg-ink text-paper' : 'bg-sheet text-ink-2',
                )}
              >
                {label}
              </button>
            ))}
          </div>
          <p
            role="status"
            className={clsx('flex items-center gap-1.5 text-[13px]', saved.kind === 'fault' ? 'text-stamp' : 'text-ink-2')}
          >
            {saved.kind === 'fault' ? <CircleAlert size={15} aria-hidden /> : <CheckCircle2 size={15} aria-hidden />}
            {saved.kind === 'saved' &&
              `Saved ${new Date(saved.at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: zone })}, live wherever it stands`}
            {saved.kind === 'typing' && 'Saving'}
            {saved.kind === 'fault' && `Not saved: ${saved.sentence}`}
          </p>
        </div>
        <iframe
          title="The form on a page"
          sandbox=""
          srcDoc={page}
          className={clsx(
            'h-[460px] rounded-lg border bg-white',
            view === 'On a phone' ? 'mx-auto block w-[390px] max-w-full' : 'w-full',
          )}
        />
        <dl className="figures mt-4 grid grid-cols-3 divide-x rounded-lg border bg-sheet">
          {[
            ['Shown', figure(counts.loaded), 'since it was made'],
            ['Sent in', figure(counts.sentIn), `${percent(counts.sentIn, counts.loaded)} of shown`],
            ['Confirmed', figure(counts.confirmed), `${percent(counts.confirmed, counts.sentIn)} of sent in`],
          ].map(([label, value, under]) => (
            <div key={label} className="px-4 py-3">
              <dt className="text-[13px] text-ink-2">{label}</dt>
              <dd>
                <span className="block font-serif text-[23px] leading-7">{value}</span>
                <span className="text-[13px] text-ink-2">{under}</span>
              </dd>
            </div>
          ))}
        </dl>
        <section className="mt-7">
          <h2 className="border-b pb-2.5 font-serif text-head">Take it to your site</h2>
          {codes.map((code) => (
            <div key={code.kind} className="border-b border-rule-2 py-3.5">
              <div className="flex items-center justify-between gap-3">
                <h3 className="font-semibold">{code.title}</h3>
                <Copy text={code.code} what={`the ${code.title.toLowerCase()} code`} label="Copy" />
              </div>
              <p className="text-[13px] text-ink-2">{code.follows}</p>
              <pre
                data-code={code.kind}
                className="mt-2 overflow-x-auto rounded-md border bg-sheet p-2.5 font-mono text-[12.5px] break-all whitespace-pre-wrap"
              >
                {code.code}
              </pre>
            </div>
          ))}
        </section>
      </div>
    </main>
  );
}

function Part({ title, aside, children }: { title: string; aside?: string; children: ReactNode }) {
  return (
    <section className="border-t py-3.5">
      <div className="mb-2.5 flex items-baseline justify-between">
        <h2 className="font-serif text-head">{title}</h2>
        {aside && <span className="text-small text-ink-2">{aside}</span>}
      </div>
      <div className="space-y-3">{children}</div>
    </section>
  );
}
