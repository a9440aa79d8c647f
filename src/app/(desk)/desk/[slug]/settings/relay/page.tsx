import { figure } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { relayOf } from '@/server/mail/relay';
import { ActionButton, ActionForm, ChoiceField, TextField } from '@/ui/kit/action-form';
import { ActionDialog } from '@/ui/kit/dialog';
import { Chip, Note, Section } from '@/ui/kit/page';
import { deskOf } from '../../../../../desk';
import { keepEncryption, removeRelay, saveRelay, tryRelay } from '../actions';

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const relay = await relayOf(ctx, newsletter);
  return (
    <div className="flex flex-col gap-x-10 gap-y-8 lg:flex-row lg:justify-between">
      <div className="max-w-3xl flex-1">
        <p className="mb-5 font-serif text-standfirst text-ink-2">
          {relay?.switchedOn ? (
            <>
              Letters leave through <b className="font-semibold text-ink">{relay.host}</b>, at most {figure(relay.perHour)} an
              hour and {figure(relay.perDay)} a day.
            </>
          ) : (
            <>Letters go straight to each mailbox provider. If you rent an SMTP service, they can leave through that instead.</>
          )}
        </p>
        {relay?.fault && (
          <Note tone="mend" title="It does not work yet, so letters still go straight">
            {relay.fault}
          </Note>
        )}
        <ActionForm
          action={saveRelay.bind(null, slug)}
          submit="Save and try it"
          done="Saved. What came of trying it stands above."
        >
          <div className="grid gap-4 sm:grid-cols-[1fr_8rem]">
            <TextField name="host" label="Host" defaultValue={relay?.host} placeholder="smtp.example" mono />
            <TextField name="port" type="number" label="Port" defaultValue={relay?.port ?? 587} inputMode="numeric" />
          </div>
          <ChoiceField
            name="tls"
            label="Encryption"
            defaultValue={relay?.tls ?? 'required'}
            choices={[
              { value: 'required', label: 'After the greeting (STARTTLS, usually port 587)' },
              { value: 'implicit', label: 'From the start (TLS, usually port 465)' },
              { value: 'none', label: 'None (only inside your own network)' },
            ]}
          />
          <div className="grid gap-4 sm:grid-cols-2">
            <TextField name="user" label="Name" defaultValue={relay?.user} autoComplete="off" />
            <TextField
              name="password"
              type="password"
              label="Password"
              autoComplete="new-password"
              hint={relay ? 'Leave empty to keep the one that is there.' : 'Kept encrypted; nobody can read it back.'}
            />
            <TextField name="perHour" type="number" label="Letters an hour, at most" defaultValue={relay?.perHour ?? 500} />
            <TextField name="perDay" type="number" label="Letters a day, at most" defaultValue={relay?.perDay ?? 5000} />
          </div>
        </ActionForm>
        <Section title="Mail in the clear" className="mt-10">
          <p className="mt-3 mb-4 max-w-prose text-ink-2">
            Nearly every mail host encrypts. Where one does not, a letter that goes straight to it can go in the clear, or wait
            two days and then not go; a confirmation waits up to five. A provider that demands encryption of its own accord is
            always heeded.
          </p>
          <ActionForm
            action={keepEncryption.bind(null, slug)}
            submit="Save"
            done="Kept, for what leaves from now on."
            tone="plain"
          >
            <ChoiceField
              name="encryption"
              label="A mail host that does not encrypt gets"
              defaultValue={newsletter.encrypted_only ? 'always' : 'offered'}
              choices={[
                { value: 'offered', label: 'the letter in the clear' },
                { value: 'always', label: 'no letter' },
              ]}
            />
          </ActionForm>
        </Section>
      </div>
      <div className="w-full shrink-0 lg:w-[296px]">
        {relay && (
          <Section title="State">
            <p className="py-2.5">
              <Chip tone={relay.switchedOn ? 'fine' : 'mend'}>{relay.switchedOn ? 'In use' : 'Not in use'}</Chip>
              {relay.probedAt && (
                <span className="ml-2 text-small text-ink-2">
                  tried {spokenTime(relay.probedAt, ctx.clock.now(), newsletter.time_zone)}
                </span>
              )}
            </p>
            <div className="flex flex-wrap gap-2">
              <ActionButton action={tryRelay.bind(null, slug)} done="Tried just now">
                Try it again
              </ActionButton>
              <ActionDialog
                opens="Take it away"
                title="Send straight again?"
                words="Letters under way go straight to the mailbox providers from now on. None is lost."
                submit="Take it away"
                done="Letters go straight again"
                action={removeRelay.bind(null, slug)}
              />
            </div>
          </Section>
        )}
        <Note tone="know" title="What it changes">
          Signature, return path and links stay yours. The service’s own servers have to stand in your SPF record too.
        </Note>
      </div>
    </div>
  );
}
