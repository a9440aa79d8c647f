'use client';

import clsx from 'clsx';
import { CheckCircle2, CircleAlert, type LucideIcon, Redo2, Undo2 } from 'lucide-react';
import Link from 'next/link';
import { type ComponentProps, type ReactNode, useCallback, useEffect, useRef, useState, useTransition } from 'react';
import { toast } from 'sonner';
import type { ActionResult } from '@/core/faults';
import { type FormCode, SITE_GUIDES } from '@/core/forms/codes';
import type { FormDefinition } from '@/core/forms/definition';
import type { FieldKind } from '@/core/forms/fields';
import { effectiveLook, formCss } from '@/core/forms/look';
import { formHtml, thanksHtml } from '@/core/forms/render';
import { FORM_WORDS, fill, wordsOf } from '@/core/forms/words';
import { renderNotice } from '@/core/writing/notice';
import { Button } from '../kit/button';
import { Copy } from '../kit/copy';
import { Choice, Words } from './controls';
import { FieldsPart } from './fields-part';
import { LookPart } from './look-part';
import { NextPart } from './next-part';
import { PlacePart } from './place-part';
import { TryIt } from './try-it';

type Written = { name: string; definition: FormDefinition; listIds: string[] };
type Props = {
  written: Written;
  savedAt: Date;
  version: number;
  isDraft: boolean;
  newsletter: { name: string; colour: string; site: string };
  lists: { id: string; name: string; reading: number }[];
  known: { key: string; label: string; kind: FieldKind; options: string[] }[];
  senders: { id: string; name: string }[];
  codes: FormCode[];
  snippet: string;
  zone: string;
  back: string;
  keep: (written: Written) => Promise<ActionResult<{ savedAt: Date }>>;
  publish: () => Promise<ActionResult<{ version: number }>>;
  giveFile: (data: FormData) => Promise<ActionResult<{ id: string; name: string }>>;
  addPicture: (data: FormData) => Promise<ActionResult<{ url: string }>>;
  loadPage: (url: string) => Promise<ActionResult<{ address: string }>>;
  trial: ComponentProps<typeof TryIt>;
  /** Counts, versions, tests: what the server knows of the form, under the preview. */
  children: ReactNode;
};
type Saved = { kind: 'saved'; at: Date } | { kind: 'typing' } | { kind: 'fault'; sentence: string };

const VIEWS = ['On a page', 'On a phone', 'After sending', 'The emails'] as const;
const MOST_STEPS = 100;

/** Edits a form with its live preview. Every change saves itself as a draft; pages follow when it is published. */
export function FormEditor(props: Props) {
  const { newsletter, keep, publish, zone } = props;
  const [written, setWritten] = useState(props.written);
  const [past, setPast] = useState<Written[]>([]);
  const [future, setFuture] = useState<Written[]>([]);
  const [saved, setSaved] = useState<Saved>({ kind: 'saved', at: props.savedAt });
  const [draft, setDraft] = useState(props.isDraft);
  const [view, setView] = useState<(typeof VIEWS)[number]>('On a page');
  const [open, setOpen] = useState(1);
  const [publishing, begin] = useTransition();
  const dirty = useRef(false);
  const turn = useRef(0);
  // The page gives a new function each time it is made anew; that alone is no reason to save.
  const keepNow = useRef(keep);
  keepNow.current = keep;
  const { definition, listIds, name } = written;

  const write = useCallback(
    (next: Written) => {
      dirty.current = true;
      setPast((all) => [...all.slice(-MOST_STEPS), written]);
      setFuture([]);
      setWritten(next);
    },
    [written],
  );
  const set = (part: Partial<FormDefinition>) => write({ ...written, definition: { ...definition, ...part } });
  const step = (from: Written[], setFrom: (all: Written[]) => void, to: (change: (all: Written[]) => Written[]) => void) => {
    const last = from.at(-1);
    if (!last) return;
    dirty.current = true;
    setFrom(from.slice(0, -1));
    to((all) => [...all, written]);
    setWritten(last);
  };
  const undo = () => step(past, setPast, setFuture);
  const redo = () => step(future, setFuture, setPast);

  useEffect(() => {
    if (!dirty.current) return;
    setSaved({ kind: 'typing' });
    const mine = ++turn.current;
    const timer = setTimeout(async () => {
      const away: ActionResult<{ savedAt: Date }> = {
        ok: false,
        error: { code: 'unreachable', sentence: 'We could not be reached; what you typed is still here.' },
      };
      const result = await keepNow.current(written).catch(() => away);
      if (mine !== turn.current) return;
      setSaved(
        result.ok ? { kind: 'saved', at: new Date(result.value.savedAt) } : { kind: 'fault', sentence: result.error.sentence },
      );
      if (result.ok) setDraft(true);
    }, 600);
    return () => clearTimeout(timer);
  }, [written]);

  // Leaving with something unsaved asks first.
  useEffect(() => {
    if (saved.kind === 'saved') return;
    const ask = (event: BeforeUnloadEvent) => event.preventDefault();
    addEventListener('beforeunload', ask);
    return () => removeEventListener('beforeunload', ask);
  }, [saved.kind]);

  const look = effectiveLook(definition.look, newsletter.colour);
  const shown = { ...definition, look };
  const chosen = props.lists.filter((list) => definition.listChoice.includes(list.id));
  const parts = [
    {
      title: 'What it asks',
      aside: `${definition.fields.length} ${definition.fields.length === 1 ? 'field' : 'fields'}`,
      body: <FieldsPart definition={definition} set={set} known={props.known} lists={props.lists} />,
    },
    {
      title: 'How it looks',
      aside: definition.look.inherits ? 'from your newsletter' : 'of its own',
      body: <LookPart definition={definition} set={set} colour={newsletter.colour} addPicture={props.addPicture} />,
    },
    {
      title: 'Where it stands',
      aside: definition.placement.kind,
      body: <PlacePart definition={definition} set={set} site={newsletter.site} loadPage={props.loadPage} />,
    },
    {
      title: 'What happens next',
      aside: definition.next.redirect ? 'another page' : 'thanks in place',
      body: (
        <NextPart
          definition={definition}
          set={set}
          lists={props.lists}
          listIds={listIds}
          setListIds={(ids) => write({ ...written, listIds: ids })}
          senders={props.senders}
          newsletter={newsletter.name}
          giveFile={props.giveFile}
        />
      ),
    },
    {
      title: 'Take it to your site',
      aside: draft ? 'publish first' : 'live',
      body: (
        <>
          <TryIt {...props.trial} />
          <Codes codes={props.codes} snippet={props.snippet} />
        </>
      ),
    },
  ];

  return (
    <main id="matter" className="mx-auto grid max-w-[1440px] gap-x-7 gap-y-6 px-4 py-5 sm:px-7 lg:grid-cols-[316px_1fr]">
      <div>
        <nav aria-label="Where you are" className="text-small text-ink-2">
          <Link href={props.back} className="link">
            Forms
          </Link>{' '}
          /
        </nav>
        <textarea
          aria-label="Name of the form"
          rows={1}
          maxLength={80}
          value={name}
          onChange={(event) => write({ ...written, name: event.target.value.replace(/\n/g, ' ') })}
          className="block field-sizing-content w-full resize-none rounded-sm bg-transparent font-serif text-[27px] leading-9"
        />
        <p className="mb-4 text-small text-ink-2">Only you see this name. Say where the form will stand.</p>
        <div className="mb-4 space-y-3">
          <Words label="Heading" value={definition.heading} change={(heading) => set({ heading })} />
          <Words long label="Words under it" value={definition.words} change={(words) => set({ words })} />
          <Words label="Button" value={definition.button} change={(button) => set({ button })} />
          <Choice
            label="Language"
            value={definition.language}
            change={(language) => set(inLanguage(definition, language, newsletter.name))}
            choices={Object.keys(FORM_WORDS).map((tag) => ({
              value: tag,
              label: new Intl.DisplayNames([tag], { type: 'language' }).of(tag) ?? tag,
            }))}
          />
        </div>
        {parts.map((part, n) => (
          <section key={part.title} className="border-t">
            <h2>
              <button
                type="button"
                aria-expanded={open === n + 1}
                onClick={() => setOpen(open === n + 1 ? 0 : n + 1)}
                className="flex w-full items-baseline gap-2 py-2.5 text-left"
              >
                <span className="figures text-[12px] font-semibold text-ink-3">{n + 1}</span>
                <span className="flex-1 font-serif text-head">{part.title}</span>
                <span className="text-small text-ink-2">{part.aside}</span>
              </button>
            </h2>
            {open === n + 1 && <div className="space-y-3 pb-5">{part.body}</div>}
          </section>
        ))}
        <div className="border-t" />
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
          <div className="flex flex-wrap items-center gap-2">
            <p
              role="status"
              className={clsx('flex items-center gap-1.5 text-[13px]', saved.kind === 'fault' ? 'text-stamp' : 'text-ink-2')}
            >
              {saved.kind === 'fault' ? <CircleAlert size={15} aria-hidden /> : <CheckCircle2 size={15} aria-hidden />}
              {saved.kind === 'saved' &&
                `Saved ${new Date(saved.at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: zone })}${draft ? ', not published' : `, version ${props.version} is live`}`}
              {saved.kind === 'typing' && 'Saving'}
              {saved.kind === 'fault' && `Not saved: ${saved.sentence}`}
            </p>
            <Step label="Undo" icon={Undo2} left={past.length} go={undo} />
            <Step label="Redo" icon={Redo2} left={future.length} go={redo} />
            <Button
              tone="main"
              disabled={!draft || saved.kind !== 'saved' || publishing}
              onClick={() =>
                begin(async () => {
                  const result = await publish();
                  if (!result.ok) return void toast.error(result.error.sentence);
                  setDraft(false);
                  toast.success(`Version ${result.value.version} is live wherever the form stands`);
                })
              }
            >
              Publish
            </Button>
          </div>
        </div>
        <Preview
          view={view}
          shown={shown}
          lists={chosen}
          newsletter={newsletter}
          listed={props.lists.filter((list) => listIds.includes(list.id)).map((list) => list.name)}
        />
        {props.children}
      </div>
    </main>
  );
}

function Step({ label, icon: Icon, left, go }: { label: string; icon: LucideIcon; left: number; go: () => void }) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      disabled={left === 0}
      onClick={go}
      className="p-1.5 text-ink-2 disabled:opacity-30"
    >
      <Icon size={16} aria-hidden />
    </button>
  );
}

/** Another language: texts that still are the starting ones of the old language become those of the new; what was written stays. */
function inLanguage(definition: FormDefinition, language: string, name: string): Partial<FormDefinition> {
  const [old, next] = [wordsOf(definition.language), wordsOf(language)];
  const swap = (text: string, from: string, to: string) => (text === fill(from, { name }) ? fill(to, { name }) : text);
  return {
    language,
    heading: swap(definition.heading, old.heading, next.heading),
    words: swap(definition.words, old.words, next.words),
    button: swap(definition.button, old.button, next.button),
    thanks: swap(definition.thanks, old.thanks, next.thanks),
    fields: definition.fields.map((field) => ({
      ...field,
      label:
        field.key === 'email'
          ? swap(field.label, old.email, next.email)
          : field.key === 'first_name'
            ? swap(field.label, old.firstName, next.firstName)
            : field.label,
    })),
  };
}

type PreviewProps = {
  view: (typeof VIEWS)[number];
  shown: FormDefinition;
  lists: { id: string; name: string }[];
  newsletter: { name: string; site: string };
  listed: string[];
};

function Preview({ view, shown, lists, newsletter, listed }: PreviewProps) {
  const { kind, ribbonAt, cornerAt } = shown.placement;
  const lines = (count: number) =>
    Array.from(
      { length: count },
      (_, n) => `<div style="height:11px;margin:0 0 10px;width:${[100, 96, 99, 92, 60][n % 5]}%;background:#ebecf0"></div>`,
    ).join('');
  if (view === 'The emails') {
    const words = wordsOf(shown.language).confirmation;
    const { confirmation, welcome } = shown.next;
    const notice = (heading: string, text: string, label?: string) =>
      renderNotice({
        name: newsletter.name,
        colour: '#17645c',
        heading,
        paragraphs: text.split(/\n{2,}/),
        ...(label ? { link: { label, url: 'https://…' } } : {}),
        footer: ['Postal address and why this comes'],
        language: shown.language,
      }).html;
    const first = notice(
      confirmation.heading || words.heading,
      confirmation.words || fill(words.words, { label: listed.join(', ') }),
      confirmation.button || words.button,
    );
    const second = welcome.on
      ? notice(welcome.subject || `Welcome to ${newsletter.name}`, welcome.words || 'Thank you for reading.')
      : '';
    return (
      <iframe title="The emails" sandbox="" srcDoc={first + second} className="h-[520px] w-full rounded-lg border bg-white" />
    );
  }
  const after = view === 'After sending';
  const html = after
    ? thanksHtml(shown)
    : formHtml({ form: shown, action: '#', lists, readers: shown.countFrom ? Math.max(shown.countFrom, 1240) : undefined });
  const css = formCss(shown.look, kind === 'one line' || kind === 'ribbon' ? 'line' : 'block');
  const place = {
    ribbon: `position:fixed;left:0;right:0;${ribbonAt}:0`,
    'corner card': `position:fixed;bottom:16px;inset-inline-${cornerAt}:16px;width:min(360px,calc(100vw - 32px))`,
    'pop-up':
      'position:fixed;inset:0;display:flex;align-items:center;justify-content:center;padding:16px;background:rgb(0 0 0/.45)',
  }[kind as 'ribbon'];
  const body = place
    ? `${lines(14)}<div style="${place}"><div style="width:min(520px,100%);margin:${kind === 'pop-up' ? 'auto' : '0'};${kind === 'ribbon' ? 'width:100%' : ''}">${html}</div></div>`
    : `${lines(5)}<div style="margin:26px 0">${html}</div>${lines(3)}`;
  const page = `<!doctype html><html lang="${shown.language}"><style>body{margin:0;padding:34px ${view === 'On a phone' ? 16 : 72}px;background:#fff}${css}</style>${body}</html>`;
  return (
    <div className={clsx('overflow-hidden rounded-lg border bg-white', view === 'On a phone' && 'mx-auto w-[390px] max-w-full')}>
      <p className="flex gap-4 border-b bg-paper px-3.5 py-2 font-mono text-[12.5px] text-ink-2">
        {newsletter.site || 'your-site.example'}/a-letter
      </p>
      <iframe title="The form on a page" sandbox="" srcDoc={page} className="h-[460px] w-full" />
    </div>
  );
}

function Codes({ codes, snippet }: { codes: FormCode[]; snippet: string }) {
  return (
    <>
      {[
        ...codes,
        {
          kind: 'site',
          title: 'Where readers come from',
          follows: 'Once on every page of your site: remembers the first and the last way somebody came, without cookies.',
          code: snippet,
        },
      ].map((code) => (
        <div key={code.kind} className="border-b border-rule-2 pb-3 last:border-b-0">
          <div className="flex items-center justify-between gap-3">
            <h3 className="text-[13.5px] font-semibold">{code.title}</h3>
            <Copy text={code.code} what={code.title.toLowerCase()} label="Copy" />
          </div>
          <p className="text-small text-ink-2">{code.follows}</p>
          <pre
            data-code={code.kind}
            // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls has to be reachable with the keyboard (WCAG 2.1.1)
            tabIndex={0}
            className="mt-2 max-h-28 overflow-auto rounded-md border bg-sheet p-2 font-mono text-[12px] break-all whitespace-pre-wrap"
          >
            {code.code}
          </pre>
        </div>
      ))}
      <h3 className="text-[13.5px] font-semibold">How it gets there</h3>
      {SITE_GUIDES.map((guide) => (
        <details key={guide.kind} className="border-b border-rule-2 pb-2">
          <summary className="cursor-pointer py-1 text-[13px]">{guide.kind}</summary>
          <ol className="list-decimal space-y-1 pl-5 text-small text-ink-2">
            {guide.steps.map((step) => (
              <li key={step}>{step}</li>
            ))}
          </ol>
        </details>
      ))}
    </>
  );
}
