import Link from 'next/link';
import { counted } from '@/core/growth/figures';
import { ALERT_TIMES, contrast, LANGUAGES, writeSocialLinks } from '@/core/newsletters/identity';
import { POSTAL_HINT } from '@/core/newsletters/postal';
import { CALL_BACK } from '@/core/sending/departure';
import { logoUrl } from '@/server/newsletters/media';
import { listsOf, totalsOf } from '@/server/readers/readers';
import { calendarAddress } from '@/server/sending/runway-calendar';
import { GRACE_DAYS } from '@/server/site/removing';
import { ActionButton, ActionForm, ChoiceField, ColourField, FileField, LongField, TextField } from '@/ui/kit/action-form';
import { Copy } from '@/ui/kit/copy';
import { ActionDialog } from '@/ui/kit/dialog';
import { Note, Section } from '@/ui/kit/page';
import { ReasonField } from '@/ui/newsletters/reason-field';
import { ZoneField } from '@/ui/newsletters/zone-field';
import { deskOf } from '../../../../desk';
import { deleteNewsletter, giveCalendar, keepSettings, removeLogo, uploadLogo } from './actions';

const WHEN = ALERT_TIMES.map((value) => ({
  value,
  label: { off: 'Not at all', 'at once': 'At once', daily: 'In one mail the next morning' }[value],
}));

const WANTED = [
  { value: 'yes', label: 'Tell me by mail' },
  { value: 'no', label: 'Not at all' },
];

const COUNTED = [
  { value: 'yes', label: 'are counted' },
  { value: 'no', label: 'are not counted' },
];

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const [lists, totals] = await Promise.all([listsOf(ctx, newsletter), totalsOf(ctx, newsletter)]);
  const people = totals.reading + totals.waiting + totals.left + totals.unreachable;
  const logo = logoUrl(ctx, newsletter);
  const calendar = calendarAddress(ctx, newsletter);
  const faint = contrast(newsletter.accent, '#fffefb') < 4.5;
  return (
    <div className="flex flex-col gap-x-10 gap-y-8 lg:flex-row lg:justify-between">
      <ActionForm action={keepSettings.bind(null, slug)} submit="Save" done="Saved" className="max-w-3xl flex-1">
        <div className="grid gap-4 sm:grid-cols-2">
          <TextField name="name" label="Name" defaultValue={newsletter.name} />
          <TextField
            name="site"
            label="Your site"
            defaultValue={newsletter.site}
            placeholder="lanternfish.example"
            hint="Where your forms stand."
          />
        </div>
        <TextField name="description" label="One line about it" defaultValue={newsletter.description} />
        <div className="grid gap-4 sm:grid-cols-2">
          <ColourField
            name="colour"
            label="Colour of forms"
            defaultValue={newsletter.colour}
            hint="Stands behind their words; a dark one."
          />
          <ColourField name="accent" label="Colour of links and buttons in letters" defaultValue={newsletter.accent} />
          <ChoiceField
            name="language"
            label="Language"
            defaultValue={newsletter.language}
            choices={LANGUAGES.map(([value, label]) => ({ value, label }))}
            hint="Screen readers go by it."
          />
          <ZoneField value={newsletter.time_zone} />
        </div>
        <LongField name="postalAddress" label="Postal address" defaultValue={newsletter.postal_address} hint={POSTAL_HINT} />
        <ReasonField
          value={newsletter.reason_line}
          name={newsletter.name}
          site={newsletter.site}
          postalAddress={newsletter.postal_address}
        />
        <LongField
          name="socialLinks"
          label="Links at the end of letters"
          rows={3}
          defaultValue={writeSocialLinks(newsletter.social_links)}
          placeholder="The site https://lanternfish.example"
          hint="One a line: a name and an address. May be left empty."
        />
        <div className="grid gap-4 sm:grid-cols-2">
          <ChoiceField
            name="alertJoins"
            label="When somebody joins, tell me"
            defaultValue={newsletter.alert_joins}
            choices={WHEN}
          />
          <ChoiceField
            name="alertLeaves"
            label="When somebody leaves, tell me"
            defaultValue={newsletter.alert_leaves}
            choices={WHEN}
          />
          <ChoiceField
            name="weekly"
            label="Each Monday, the week in one mail"
            defaultValue={newsletter.weekly_summary ? 'yes' : 'no'}
            choices={WANTED}
          />
          <ChoiceField
            name="unusual"
            label="When something is out of the usual"
            defaultValue={newsletter.tell_unusual ? 'yes' : 'no'}
            choices={WANTED}
            hint="Complaints, a provider that turns letters away, few who confirm or join."
          />
          <ChoiceField
            name="countOpens"
            label="Openings of letters"
            defaultValue={newsletter.count_opens ? 'yes' : 'no'}
            choices={COUNTED}
            hint="Not counted, letters carry no picture for it, and nobody can say how many were read."
          />
          <ChoiceField
            name="countClicks"
            label="Clicks in letters"
            defaultValue={newsletter.count_clicks ? 'yes' : 'no'}
            choices={COUNTED}
            hint="Not counted, links lead straight to where they point, and nobody can say which were followed."
          />
          <TextField
            name="callBackSeconds"
            type="number"
            min={0}
            max={CALL_BACK.most}
            label="Seconds in which a letter can be called back"
            defaultValue={newsletter.call_back_seconds}
            hint="After you let it go at once, before the first copy leaves."
          />
        </div>
      </ActionForm>
      <div className="w-full shrink-0 lg:w-[296px]">
        <Section title="Your runway in a calendar">
          <div className="mt-3 space-y-3 text-[13px]">
            {calendar ? (
              <>
                <p className="text-ink-2">
                  Subscribe to this address in your calendar. Whoever has it sees what leaves when, and nobody’s name but the
                  sender’s.
                </p>
                <p className="break-all">
                  {calendar} <Copy text={calendar} what="the address of the calendar" />
                </p>
                <div className="flex flex-wrap gap-2">
                  <ActionButton action={giveCalendar.bind(null, slug, true)} done="The old address shows nothing any more">
                    Another address
                  </ActionButton>
                  <ActionButton action={giveCalendar.bind(null, slug, false)} done="Nobody can read it any more">
                    Close it
                  </ActionButton>
                </div>
              </>
            ) : (
              <>
                <p className="text-ink-2">A private address from which a calendar program reads what leaves when.</p>
                <ActionButton action={giveCalendar.bind(null, slug, true)} done="The calendar has an address">
                  Give it an address
                </ActionButton>
              </>
            )}
          </div>
        </Section>
        <Section title="Logo">
          <div className="mt-3 space-y-3">
            {logo ? (
              <img
                src={logo}
                alt={`Logo of ${newsletter.name}`}
                className="size-24 rounded-md border bg-sheet object-contain p-1"
              />
            ) : (
              <p className="text-ink-2">None yet. It stands small above every letter.</p>
            )}
            <ActionForm
              action={uploadLogo.bind(null, slug)}
              submit={logo ? 'Replace it' : 'Upload'}
              done="The logo is kept"
              clears
              tone="plain"
            >
              <FileField
                name="logo"
                label="A picture"
                accept="image/*"
                hint="PNG, JPEG, WebP or SVG, up to 20 MB. It is made small enough for mail."
              />
            </ActionForm>
            {logo && (
              <ActionButton action={removeLogo.bind(null, slug)} done="Letters to come have no logo">
                Take it off
              </ActionButton>
            )}
          </div>
        </Section>
        {faint && (
          <Note tone="look" title="Links are hard to read in this colour">
            Their contrast on white is {contrast(newsletter.accent, '#fffefb').toFixed(1)}; 4.5 is what most eyes need. Choose a
            darker one.
          </Note>
        )}
        <Section title="Lists">
          {lists.map((list) => (
            <p key={list.id} className="border-b border-rule-2 py-2">
              <b>{list.name}</b>
              <span className="block text-small text-ink-2">
                readers see “{list.publicName}”; {list.doubleOptIn ? 'confirmed by email' : 'not confirmed'}
              </span>
            </p>
          ))}
        </Section>
        {!newsletter.closing_at && (
          <Section title="Delete it" id="delete">
            <p className="my-3 text-ink-2">
              With its {counted(people, 'person', 'people')}, letters, forms and figures, in {GRACE_DAYS} days. Nothing more of it
              leaves from now on, and until then any owner may keep it.
            </p>
            <p className="my-3 text-ink-2">
              To have it elsewhere,{' '}
              <Link className="link" href={`/desk/${slug}/readers/export#whole`}>
                take all of it out
              </Link>{' '}
              first.
            </p>
            <ActionDialog
              opens="Delete this newsletter …"
              title={`Delete ${newsletter.name}?`}
              words={`At once its forms say that they are closed, and nothing of it is sent. In ${GRACE_DAYS} days ${counted(people, 'person', 'people')} on its lists and all its letters and figures go, and nobody can bring them back but from a file of it.`}
              submit="Delete it"
              tone="harm"
              action={deleteNewsletter.bind(null, slug)}
            >
              <TextField name="name" label={`Type its name, ${newsletter.name}`} />
            </ActionDialog>
          </Section>
        )}
      </div>
    </div>
  );
}
