'use client';

import clsx from 'clsx';
import { CheckCircle2, CircleAlert, Code, type LucideIcon, MousePointerClick, Redo2, Undo2, X } from 'lucide-react';
import Link from 'next/link';
import { type ComponentProps, type ReactNode, useCallback, useState, useTransition } from 'react';
import { toast } from 'sonner';
import type { ActionResult } from '@/core/faults';
import type { FormCode } from '@/core/forms/codes';
import type { FormDefinition } from '@/core/forms/definition';
import { effectiveLook } from '@/core/forms/look';
import { type PartId, partsOf, withText } from '@/core/forms/parts';
import type { Look } from '@/core/writing/look';
import { Button } from '../kit/button';
import { type BuilderList, type ClauseProps, FormClauses } from './clauses';
import { Codes } from './codes';
import { MailSettings, Mails } from './mails';
import { PartSettings, type SettingsProps } from './part-settings';
import { Picker, type Picking } from './picker';
import { AddPart, type Known } from './questions';
import { Stage } from './stage';
import { TryIt } from './try-it';
import { useDraft, type Written } from './use-draft';

type Props = Pick<ClauseProps, 'giveFile' | 'senders'> &
  Pick<SettingsProps, 'addPicture'> & {
    written: Written;
    savedAt: Date;
    version: number;
    isDraft: boolean;
    newsletter: { name: string; colour: string; site: string; reading: number };
    /** How its mails look: its usual layout, and its own colour. */
    dress: { look: Look; accent: string };
    lists: BuilderList[];
    known: Known[];
    /** The names of the newsletter's other forms. */
    others: string[];
    codes: FormCode[];
    snippet: string;
    zone: string;
    back: string;
    loadPage: (url: string) => Promise<ActionResult<{ address: string }>>;
    keep: (written: Written) => Promise<ActionResult<{ savedAt: Date }>>;
    publish: () => Promise<ActionResult<{ version: number }>>;
    trial: ComponentProps<typeof TryIt>;
    /** What the form has brought, in the margin. */
    children: ReactNode;
  };

const VIEWS = ['Page', 'Phone', 'Thanks', 'Mails'] as const;
type View = (typeof VIEWS)[number];
const PHONE = 390;

/**
 * A form is made where it stands: on a page in the middle that never leaves the view. What one points at is set in the margin; where, when, for whom
 * and what comes next are sentences under the page. Every change saves itself as a draft; pages follow when it is published.
 */
export function Builder(props: Props) {
  const { newsletter, zone } = props;
  const { written, write, saved, isDraft, published, undo, redo } = useDraft(props, props.keep);
  const [view, setView] = useState<View>('Page');
  const [pageWidth, setPageWidth] = useState<number | null>(null);
  const [room, setRoom] = useState(0);
  const [picked, setPicked] = useState<PartId>('heading');
  const [panel, setPanel] = useState<'part' | 'try' | 'line'>('part');
  const [picking, setPicking] = useState<Picking | null>(null);
  const [publishing, begin] = useTransition();
  const { definition, listIds, name } = written;
  const after = view === 'Thanks';
  const parts = partsOf(definition, after);
  // A part that has gone, or is of the other side, is pointed at no more.
  const part = parts.some(({ id }) => id === picked) || (picked === 'picture' && !after) ? picked : after ? 'thanks' : 'heading';
  const place = parts.findIndex(({ id }) => id === part);
  const set = (form: FormDefinition) => write({ ...written, definition: form });
  const pick = useCallback((id: PartId) => {
    setPicked(id);
    setPanel('part');
  }, []);
  const shown = { ...definition, look: effectiveLook(definition.look, newsletter.colour) };
  const width = view === 'Phone' ? PHONE : pageWidth;
  const clauses: ClauseProps = {
    form: definition,
    set,
    listIds,
    setListIds: (ids) => write({ ...written, listIds: ids }),
    lists: props.lists,
    known: props.known,
    senders: props.senders,
    newsletter,
    pick,
    toMails: () => {
      setView('Mails');
      setPanel('part');
    },
    giveFile: props.giveFile,
    look: setPicking,
  };
  const twice = props.others.some((other) => other.trim().toLowerCase() === name.trim().toLowerCase());
  return (
    <main id="matter" className="mx-auto max-w-[1440px]">
      <header className="flex flex-wrap items-center gap-x-4 gap-y-2 border-b px-4 py-2.5 sm:px-7">
        <div className="flex min-w-0 flex-1 basis-64 items-baseline gap-2">
          <nav aria-label="Where you are" className="shrink-0 text-[13px] text-ink-2">
            <Link href={props.back} className="link">
              Forms
            </Link>{' '}
            /
          </nav>
          <h1 className="sr-only">{name || 'A form'}</h1>
          <textarea
            aria-label="Name of the form"
            title="Only you see this name. Say where the form will stand."
            rows={1}
            value={name}
            onChange={(event) => write({ ...written, name: event.target.value.replace(/\n/g, ' ') })}
            className="block field-sizing-content max-w-full min-w-0 resize-none rounded-sm bg-transparent font-serif text-[21px] leading-7"
          />
        </div>
        <p
          role="status"
          className={clsx(
            'flex min-w-0 items-center gap-1.5 text-[13px]',
            saved.kind === 'fault' || twice ? 'text-stamp' : 'text-ink-2',
          )}
        >
          {saved.kind === 'fault' || twice ? (
            <CircleAlert size={15} className="shrink-0" aria-hidden />
          ) : (
            <CheckCircle2 size={15} className="shrink-0" aria-hidden />
          )}
          <span>
            {twice && 'Another form has this name. '}
            {saved.kind === 'saved' &&
              `Saved ${new Date(saved.at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: zone })}${isDraft ? ', not published' : `, version ${props.version} is live`}`}
            {saved.kind === 'typing' && 'Saving'}
            {saved.kind === 'fault' && `Not saved: ${saved.sentence}`}
          </span>
        </p>
        <div className="flex flex-wrap items-center gap-2">
          <Step label="Undo" icon={Undo2} go={undo} />
          <Step label="Redo" icon={Redo2} go={redo} />
          <Button aria-pressed={panel === 'try'} onClick={() => setPanel(panel === 'try' ? 'part' : 'try')}>
            <MousePointerClick size={15} aria-hidden /> Try it
          </Button>
          <Button aria-pressed={panel === 'line'} onClick={() => setPanel(panel === 'line' ? 'part' : 'line')}>
            <Code size={15} aria-hidden /> One line to paste
          </Button>
          <Button
            tone="main"
            disabled={!isDraft || saved.kind !== 'saved' || publishing}
            onClick={() =>
              begin(async () => {
                const result = await props.publish();
                if (!result.ok) return void toast.error(result.error.sentence);
                published();
                toast.success(`Version ${result.value.version} is live on every page that is opened from now on`);
              })
            }
          >
            Publish
          </Button>
        </div>
      </header>

      <div className="lg:grid lg:grid-cols-[minmax(0,1fr)_324px]">
        <div className="min-w-0 lg:border-r">
          <section
            aria-label="The form where it stands"
            className="sticky top-0 z-20 h-[46dvh] border-b lg:h-[clamp(320px,calc(100dvh-356px),640px)]"
          >
            <div className="flex h-full flex-col">
              <div className="flex flex-wrap items-center justify-between gap-2 border-b bg-paper px-4 py-1.5 sm:px-7">
                <div role="tablist" aria-label="How it is shown" className="inline-flex overflow-hidden rounded-md border">
                  {VIEWS.map((label) => (
                    <button
                      key={label}
                      type="button"
                      role="tab"
                      aria-selected={view === label}
                      onClick={() => setView(label)}
                      className={clsx(
                        'border-r px-3 py-1 text-[13px] font-medium last:border-r-0',
                        view === label ? 'bg-ink text-paper' : 'bg-sheet text-ink-2',
                      )}
                    >
                      {label}
                    </button>
                  ))}
                </div>
                {(view === 'Page' || view === 'Thanks') && (
                  <label className="hidden items-center gap-2 text-small text-ink-2 sm:flex">
                    A page of
                    <input
                      type="number"
                      min={240}
                      max={2400}
                      step={20}
                      aria-label="Width of the page, in pixels"
                      value={pageWidth ?? room}
                      onChange={(event) => setPageWidth(Math.max(0, Number(event.target.value)) || null)}
                      className="w-[76px] rounded-md border bg-sheet px-2 py-1 text-[13px] text-ink"
                    />
                    pixels
                    {pageWidth !== null && (
                      <button type="button" className="link" onClick={() => setPageWidth(null)}>
                        as wide as here
                      </button>
                    )}
                  </label>
                )}
              </div>
              <div className="min-h-0 flex-1">
                {view === 'Mails' ? (
                  <Mails
                    form={definition}
                    newsletter={newsletter.name}
                    dress={props.dress}
                    lists={props.lists.filter((list) => listIds.includes(list.id)).map((list) => list.publicName)}
                  />
                ) : (
                  <Stage
                    shown={shown}
                    lists={props.lists
                      .filter((list) => definition.listChoice.includes(list.id))
                      .map((list) => ({ id: list.id, name: list.publicName }))}
                    readers={newsletter.reading}
                    after={after}
                    width={width}
                    parts={parts}
                    picked={panel === 'part' ? part : null}
                    pick={pick}
                    rewrite={(id, text) => set(withText(definition, id, text))}
                    measured={setRoom}
                  />
                )}
              </div>
            </div>
          </section>
          {/* Room under the sentences, so that a choice that opens there can be scrolled to. */}
          <div className="px-4 pt-5 pb-72 sm:px-7">
            <FormClauses {...clauses} />
          </div>
        </div>

        <aside
          aria-label="Settings"
          className="border-t px-4 py-4 sm:px-7 lg:sticky lg:top-0 lg:max-h-dvh lg:self-start lg:overflow-y-auto lg:border-t-0 lg:px-5"
        >
          {panel === 'part' && view === 'Mails' && (
            <Panel title="Mails">
              <MailSettings {...clauses} />
            </Panel>
          )}
          {panel === 'part' && view !== 'Mails' && (
            <Panel title={parts[place]?.name ?? 'Picture'} aside={place < 0 ? '' : `${place + 1} of ${parts.length} parts`}>
              <PartSettings
                part={part}
                form={definition}
                set={set}
                colour={newsletter.colour}
                lists={props.lists}
                addPicture={props.addPicture}
                pick={pick}
              />
              <p className="text-small text-ink-2">
                Click any part on the page, or walk with the arrows. What you do not set follows the newsletter’s look.
              </p>
              {!after && <AddPart form={definition} set={set} known={props.known} lists={props.lists} pick={pick} />}
            </Panel>
          )}
          {panel === 'try' && (
            <Panel title="Try it yourself" close={() => setPanel('part')}>
              {isDraft && (
                <p className="text-small text-ink-2">
                  What is tried is version {props.version}; your draft is not published yet.
                </p>
              )}
              <TryIt {...props.trial} />
            </Panel>
          )}
          {panel === 'line' && (
            <Panel title="One line to paste" close={() => setPanel('part')}>
              {isDraft && (
                <p className="text-small text-ink-2">
                  Pages show version {props.version} until you publish; the plain HTML below is of that version too.
                </p>
              )}
              <Codes codes={props.codes} snippet={props.snippet} />
            </Panel>
          )}
          {props.children}
        </aside>
        <Picker picking={picking} close={() => setPicking(null)} site={newsletter.site} load={props.loadPage} />
      </div>
    </main>
  );
}

type PanelProps = { title: string; aside?: string; close?: () => void; children: ReactNode };
function Panel({ title, aside, close, children }: PanelProps) {
  return (
    <section data-settings className="mb-6">
      <div className="mb-3 flex items-baseline justify-between gap-3 border-b pb-2">
        <h2 className="font-serif text-head">{title}</h2>
        {aside && <span className="text-small text-ink-2">{aside}</span>}
        {close && (
          <button type="button" aria-label={`Close: ${title}`} onClick={close} className="p-1 text-ink-2">
            <X size={16} aria-hidden />
          </button>
        )}
      </div>
      <div className="space-y-3">{children}</div>
    </section>
  );
}

function Step({ label, icon: Icon, go }: { label: string; icon: LucideIcon; go: (() => void) | null }) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      disabled={!go}
      onClick={() => go?.()}
      className="p-1.5 text-ink-2 disabled:opacity-30"
    >
      <Icon size={16} aria-hidden />
    </button>
  );
}
