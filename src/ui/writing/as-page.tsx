import type { ActionResult } from '@/core/faults';
import { ChoiceField, LongField, TextField } from '../kit/action-form';
import { ActionDialog } from '../kit/dialog';

export type PageSummary = {
  goes: 'both' | 'letter' | 'page';
  audience: 'everybody' | 'readers';
  slug: string;
  topics: string[];
  picture: string | null;
  pictureAlt: string;
  description: string;
  canonical: string | null;
  author: string;
  guest: string;
  /** Since when it stands, as it is said; null: it does not. */
  since: string | null;
  url: string;
  before: string[];
};
type AsPageProps = { page: PageSummary; action: (data: FormData) => Promise<ActionResult<unknown>> };

/** What the post is as a page of the newsletter's site. */
export function AsPage({ page, action }: AsPageProps) {
  return (
    <section aria-label="As a web page" className="mt-6">
      <h2 className="mb-2 border-b pb-1.5 font-serif text-head">As a web page</h2>
      <p className="text-[13px] text-ink-2">
        {page.goes === 'letter' && 'It has no page: it is a letter alone.'}
        {page.goes !== 'letter' && page.since && (
          <>
            It stands at{' '}
            <a className="link break-all" href={page.url}>
              {page.url.replace(/^https?:\/\//, '')}
            </a>{' '}
            since {page.since}, {page.audience === 'readers' ? 'whole for readers alone' : 'for everybody'}.
          </>
        )}
        {page.goes === 'both' && !page.since && 'It stands on your site from the moment at which the letter leaves.'}
        {page.goes === 'page' && !page.since && 'It is a page alone. It stands once you publish it.'}
      </p>
      {page.topics.length > 0 && <p className="mt-1 text-small text-ink-2">{page.topics.join(', ')}</p>}
      <div className="mt-2">
        <ActionDialog
          opens="Change the page"
          opensTone="quiet"
          title="As a web page"
          submit="Keep it"
          done="The page is kept so"
          action={action}
        >
          <ChoiceField
            name="goes"
            label="What becomes of it"
            defaultValue={page.goes}
            choices={[
              { value: 'both', label: 'A letter and a page' },
              { value: 'letter', label: 'A letter alone' },
              { value: 'page', label: 'A page alone' },
            ]}
          />
          <ChoiceField
            name="audience"
            label="Who reads it whole"
            defaultValue={page.audience}
            choices={[
              { value: 'everybody', label: 'Everybody' },
              { value: 'readers', label: 'Readers, by the link in their letter' },
            ]}
          />
          <TextField
            name="slug"
            label="Address"
            defaultValue={page.slug}
            hint={
              page.before.length
                ? `Whoever comes to ${page.before.join(', ')} is led on.`
                : 'Its last part. Left empty, made from the title; when it changes later, whoever comes to the old one is led on.'
            }
          />
          <TextField name="topics" label="Topics" defaultValue={page.topics.join(', ')} hint="With commas between them." />
          <LongField
            name="description"
            label="Description"
            defaultValue={page.description}
            hint="What it is about, for lists and for who shares it. Left empty, the subtitle."
          />
          <TextField
            name="picture"
            label="Picture"
            defaultValue={page.picture ?? ''}
            placeholder="https://"
            hint="For lists and for who shares it."
          />
          <TextField name="pictureAlt" label="What the picture shows" defaultValue={page.pictureAlt} />
          <TextField name="author" label="Author" defaultValue={page.author} />
          <TextField name="guest" label="Guest author" defaultValue={page.guest} hint="Named instead of the author." />
          <TextField
            name="canonical"
            label="Where it stood first"
            defaultValue={page.canonical ?? ''}
            placeholder="https://"
            hint="If it was published elsewhere, so that search engines send people there."
          />
        </ActionDialog>
      </div>
    </section>
  );
}
