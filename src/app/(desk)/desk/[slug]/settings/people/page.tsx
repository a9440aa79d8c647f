import { spokenTime } from '@/core/growth/times';
import { ROLE_WORDS, ROLES } from '@/core/newsletters/roles';
import { membersOf } from '@/server/newsletters/members';
import { ActionButton, ActionForm, ChoiceField, TextField } from '@/ui/kit/action-form';
import { ActionDialog } from '@/ui/kit/dialog';
import { Chip, Section, Sheet } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf } from '../../../../../desk';
import { changeRole, invitePerson, removeMember, withdrawInvitation } from '../actions';

const CHOICES = ROLES.map((value) => ({ value, label: `${value}: ${ROLE_WORDS[value]}` }));

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const { members, invitations } = await membersOf(ctx, newsletter);
  const now = ctx.clock.now();
  return (
    <div className="flex flex-col gap-x-10 gap-y-8 lg:flex-row">
      <div className="min-w-0 flex-1">
        <Section title="Who works on it">
          <Table
            label="Members"
            columns={[{ title: 'Person' }, { title: 'Role' }, { title: 'What to do', silent: true }]}
            rows={[
              ...members.map((member) => ({
                key: member.userId,
                cells: [
                  <span key="p">
                    <b className="block">{member.name}</b>
                    <span className="text-small break-all text-ink-2">{member.email}</span>
                  </span>,
                  <span key="r">
                    {member.role}
                    <span className="block text-small text-ink-2">{ROLE_WORDS[member.role]}</span>
                  </span>,
                  <span key="a" className="flex justify-end gap-3">
                    <ActionDialog
                      opens="Change"
                      label={`Change the role of ${member.name}`}
                      opensTone="quiet"
                      title={`What may ${member.name} do?`}
                      submit="Change it"
                      done="Changed"
                      action={changeRole.bind(null, slug, member.userId)}
                    >
                      <ChoiceField name="role" label="Role" defaultValue={member.role} choices={CHOICES} />
                    </ActionDialog>
                    <ActionDialog
                      opens="Remove"
                      label={`Remove ${member.name}`}
                      opensTone="quiet"
                      tone="harm"
                      title={`Remove ${member.name}?`}
                      words="They can no longer open this newsletter. What they made stays."
                      submit="Remove"
                      done="Removed"
                      action={removeMember.bind(null, slug, member.userId)}
                    />
                  </span>,
                ],
              })),
              ...invitations.map((open) => ({
                key: open.id,
                id: open.id,
                cells: [
                  <span key="p" className="break-all">
                    {open.email}
                  </span>,
                  <span key="r">
                    {open.role}{' '}
                    <Chip tone={open.expired ? 'look' : 'know'}>
                      {open.expired ? 'invitation ran out' : `invited ${spokenTime(open.sentAt, now, newsletter.time_zone)}`}
                    </Chip>
                  </span>,
                  <span key="a" className="flex justify-end">
                    <ActionButton
                      action={withdrawInvitation.bind(null, slug, open.id)}
                      done="The link in the mail no longer works"
                    >
                      Take back
                    </ActionButton>
                  </span>,
                ],
              })),
            ]}
          />
        </Section>
      </div>
      <div className="w-full shrink-0 lg:w-[296px]">
        <Section title="Invite somebody">
          <Sheet className="mt-3">
            <ActionForm
              action={invitePerson.bind(null, slug)}
              submit="Send an invitation"
              done="The invitation is on its way"
              clears
              tone="plain"
            >
              <TextField name="email" type="email" label="Address" autoComplete="off" />
              <ChoiceField name="role" label="Role" defaultValue="editor" choices={CHOICES} />
            </ActionForm>
          </Sheet>
        </Section>
      </div>
    </div>
  );
}
