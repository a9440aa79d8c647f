import type { ReactNode } from 'react';
import { WELCOME_WORDS, welcomeSubject } from '@/core/forms/mails';
import { counted, figure } from '@/core/growth/figures';
import { type ListView, thingsOf } from '@/server/keeping/things';
import { ActionButton, ActionForm, ChoiceField, type FormAction, LongField, TextField } from '@/ui/kit/action-form';
import { ActionDialog } from '@/ui/kit/dialog';
import { Chip, Section, Sheet } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { KindField, MergeList } from '@/ui/readers/changing';
import { deskOf } from '../../../../../desk';
import {
  archive,
  callField,
  callTag,
  changeKind,
  changeList,
  dropField,
  dropList,
  dropTag,
  lookAtKind,
  lookAtMerging,
  makeList,
  merge,
  shiftList,
} from './actions';

const YES_NO = [
  { value: 'yes', label: 'Yes' },
  { value: 'no', label: 'No' },
];

const ListFields = ({ list }: { list?: ListView }) => (
  <>
    <TextField name="name" label="Name" defaultValue={list?.name} hint="What you call it." />
    <TextField name="publicName" label="Name for readers" defaultValue={list?.publicName} hint="Left empty, the same." />
    <TextField
      name="description"
      label="What it brings"
      defaultValue={list?.description}
      placeholder="One essay, on Thursdays."
    />
    <ChoiceField
      name="doubleOptIn"
      label="Asks for confirmation by mail"
      defaultValue={list && !list.doubleOptIn ? 'no' : 'yes'}
      choices={YES_NO}
      hint="Without it anybody can sign up anybody."
    />
    <ChoiceField
      name="public"
      label="Shown where readers choose"
      defaultValue={list && !list.public ? 'no' : 'yes'}
      choices={YES_NO}
    />
    <ChoiceField
      name="welcome"
      label="Greets new readers with a letter"
      defaultValue={list?.welcome ? 'yes' : 'no'}
      choices={YES_NO}
      hint="Where the form they came by has none of its own. Whom you bring or add yourself is not greeted."
    />
    <TextField
      name="welcomeSubject"
      label="Its subject"
      defaultValue={list?.welcome?.subject}
      placeholder={welcomeSubject(list?.publicName ?? 'the list')}
    />
    <LongField
      name="welcomeWords"
      label="What it says"
      rows={4}
      defaultValue={list?.welcome?.words}
      placeholder={WELCOME_WORDS}
    />
  </>
);

const Needed = ({ by }: { by: string[] }) =>
  by.length > 0 && <span className="block text-small text-ink-2">Needed by {by.join(', ')}</span>;

type NameActsProps = {
  thing: string;
  name: string;
  /** What the new name is sent as. */
  field: string;
  call: FormAction;
  callWords: string;
  drop: FormAction;
  dropWords: string;
  children?: ReactNode;
};

/** Another name for something, and letting go of it. */
const NameActs = ({ thing, name, field, call, callWords, drop, dropWords, children }: NameActsProps) => (
  <span className="flex flex-wrap justify-end gap-x-3">
    <ActionDialog
      opens="Rename"
      label={`Rename ${name}`}
      opensTone="quiet"
      title={`Call “${name}” something else`}
      words={callWords}
      submit="Rename it"
      done="Renamed"
      action={call}
    >
      <TextField name={field} label="Name" defaultValue={name} autoComplete="off" />
    </ActionDialog>
    <ActionDialog
      opens="Delete"
      label={`Delete ${thing} ${name}`}
      opensTone="quiet"
      title={`Delete ${thing} “${name}”?`}
      words={dropWords}
      submit="Delete"
      tone="harm"
      done="Deleted"
      action={drop}
    >
      {children}
    </ActionDialog>
  </span>
);

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const { lists, tags, fields } = await thingsOf(ctx, newsletter);
  return (
    <div className="flex flex-col gap-x-10 gap-y-8 lg:flex-row lg:justify-between">
      <div className="min-w-0 max-w-4xl flex-1">
        <Section title="Lists" aside="in the order in which readers are offered them">
          <Table
            label="Lists"
            columns={[
              { title: 'List' },
              { title: 'Reading', figure: true },
              { title: 'Waiting', figure: true },
              { title: 'What to do', silent: true },
            ]}
            rows={lists.map((list, n) => ({
              key: list.id,
              id: list.id,
              cells: [
                <span key="n">
                  <b>{list.name}</b> {list.archived && <Chip tone="know">put away</Chip>}{' '}
                  {!list.doubleOptIn && <Chip tone="look">no confirmation</Chip>}{' '}
                  {!list.public && <Chip tone="know">not shown</Chip>} {list.welcome && <Chip tone="know">greets</Chip>}
                  {list.publicName !== list.name && <span className="block text-small">Readers see “{list.publicName}”</span>}
                  {list.description && <span className="block text-small text-ink-2">{list.description}</span>}
                  <Needed by={list.neededBy} />
                </span>,
                figure(list.reading),
                figure(list.waiting),
                <span key="a" className="flex flex-wrap justify-end gap-x-3 gap-y-1">
                  {n > 0 && (
                    <ActionButton tone="quiet" action={shiftList.bind(null, slug, list.id, 'up')}>
                      Up
                    </ActionButton>
                  )}
                  {n < lists.length - 1 && (
                    <ActionButton tone="quiet" action={shiftList.bind(null, slug, list.id, 'down')}>
                      Down
                    </ActionButton>
                  )}
                  <ActionDialog
                    opens="Change"
                    opensTone="quiet"
                    label={`Change ${list.name}`}
                    title={`Change “${list.name}”`}
                    submit="Save"
                    done="Saved"
                    action={changeList.bind(null, slug, list.id)}
                  >
                    <ListFields list={list} />
                  </ActionDialog>
                  {lists.length > 1 && (
                    <MergeList
                      name={list.name}
                      others={lists.filter((one) => one.id !== list.id && !one.archived).map(({ id, name }) => ({ id, name }))}
                      look={lookAtMerging.bind(null, slug, list.id)}
                      merge={merge.bind(null, slug, list.id)}
                    />
                  )}
                  <ActionButton
                    tone="quiet"
                    action={archive.bind(null, slug, list.id, !list.archived)}
                    done={list.archived ? 'In use again' : 'Put away; its people stay on it'}
                  >
                    {list.archived ? 'Use again' : 'Put away'}
                  </ActionButton>
                  <ActionDialog
                    opens="Delete"
                    opensTone="quiet"
                    label={`Delete ${list.name}`}
                    title={`Delete “${list.name}”?`}
                    words="Only a list that nobody is on can go. What people agreed to stays in their records."
                    submit="Delete"
                    tone="harm"
                    done="Deleted"
                    action={dropList.bind(null, slug, list.id)}
                  />
                </span>,
              ],
            }))}
          />
        </Section>
        <Section title="Tags">
          {tags.length === 0 && <p className="py-4 text-ink-2">None yet. A form can give one, and so can you, on Readers.</p>}
          {tags.length > 0 && (
            <Table
              label="Tags"
              columns={[{ title: 'Tag' }, { title: 'Reading', figure: true }, { title: 'What to do', silent: true }]}
              rows={tags.map((tag) => ({
                key: tag.name,
                cells: [
                  <span key="n">
                    <b>{tag.name}</b>
                    <Needed by={tag.neededBy} />
                  </span>,
                  figure(tag.reading),
                  <NameActs
                    key="a"
                    thing="the tag"
                    name={tag.name}
                    field="tag"
                    call={callTag.bind(null, slug, tag.name)}
                    callWords="Forms, segments and letters that name it follow. Where a tag of the new name is there already, the two become one, which cannot be taken back."
                    drop={dropTag.bind(null, slug, tag.name)}
                    dropWords={`It is taken off ${counted(tag.people, 'person', 'people')}, who stay.`}
                  />,
                ],
              }))}
            />
          )}
        </Section>
        <Section title="Fields">
          {fields.length === 0 && (
            <p className="py-4 text-ink-2">None yet. What a form asks beside address and name becomes one.</p>
          )}
          {fields.length > 0 && (
            <Table
              label="Fields"
              columns={[
                { title: 'Field' },
                { title: 'Kind' },
                { title: 'Answers', figure: true },
                { title: 'What to do', silent: true },
                { title: 'Kind of it', silent: true },
              ]}
              rows={fields.map((field) => ({
                key: field.id,
                cells: [
                  <span key="n">
                    <b>{field.label}</b>
                    <Needed by={field.neededBy} />
                  </span>,
                  field.kind,
                  figure(field.answers),
                  <NameActs
                    key="a"
                    thing="the field"
                    name={field.label}
                    field="label"
                    call={callField.bind(null, slug, field.id)}
                    callWords="Forms keep the words in which they ask."
                    drop={dropField.bind(null, slug, field.id)}
                    dropWords={`${counted(field.answers, 'answer goes', 'answers go')} with it, for good.`}
                  >
                    <TextField
                      name="typed"
                      label={`Type ${field.answers} to delete them`}
                      inputMode="numeric"
                      autoComplete="off"
                    />
                  </NameActs>,
                  <KindField
                    key="k"
                    name={field.label}
                    kind={field.kind}
                    look={lookAtKind.bind(null, slug, field.id)}
                    change={changeKind.bind(null, slug, field.id)}
                  />,
                ],
              }))}
            />
          )}
        </Section>
      </div>
      <div className="w-full shrink-0 lg:w-[296px]">
        <Section title="Make a list">
          <Sheet className="mt-3">
            <ActionForm action={makeList.bind(null, slug)} submit="Make it" done="Made" clears tone="plain">
              <ListFields />
            </ActionForm>
          </Sheet>
        </Section>
      </div>
    </div>
  );
}
