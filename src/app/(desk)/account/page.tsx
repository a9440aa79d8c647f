import type { Metadata } from 'next';
import { headers } from 'next/headers';
import Link from 'next/link';
import { fullTime } from '@/core/growth/times';
import { PASSWORD_RULE } from '@/server/auth/auth';
import { auth } from '@/server/auth/session';
import { newslettersOf } from '@/server/newsletters/newsletters';
import { runtime } from '@/server/runtime';
import { OwnAccount } from '@/ui/accounts/own-account';
import { Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { personHere } from '../../desk';

export const metadata: Metadata = { title: 'Your account' };

/** What a browser is called, in few words. */
function machineOf(agent: string | null | undefined): string {
  const system = /Android|iPhone|iPad|Windows|Macintosh|Linux/.exec(agent ?? '')?.[0];
  return system ? `A browser on ${system === 'Macintosh' ? 'a Mac' : system}` : 'A browser';
}

export default async function Page({ searchParams }: { searchParams: Promise<{ address?: string }> }) {
  const { address } = await searchParams;
  const person = await personHere();
  const ctx = await runtime();
  const head = await headers();
  const library = await auth();
  const [open, here, newsletters] = await Promise.all([
    library.api.listSessions({ headers: head }),
    library.api.getSession({ headers: head }),
    newslettersOf(ctx, person.id),
  ]);
  const zone = newsletters[0]?.time_zone ?? 'UTC';
  const home = newsletters[0];
  return (
    <Screen
      margin={
        <Section title="Your newsletters">
          <ul>
            {newsletters.map((one) => (
              <li key={one.slug} className="border-b border-rule-2 py-2">
                <Link href={`/desk/${one.slug}/today`} className="link">
                  {one.name}
                </Link>
                <span className="block text-small text-ink-2">{one.role}</span>
              </li>
            ))}
          </ul>
          <p className="mt-3">
            <Link href="/new" className="link">
              Another newsletter
            </Link>
          </p>
        </Section>
      }
    >
      <Standfirst title="Your account" trail={home ? [{ label: home.name, href: `/desk/${home.slug}/today` }] : []}>
        <b>{person.name}</b>, {person.email}. Signed in, you open{' '}
        {newsletters.length === 0 ? 'no newsletter yet' : 'the newsletters beside this'}.
      </Standfirst>
      {address === 'old' && (
        <Note tone="look" title="Now the new address">
          A link is on its way to it. Click that too, and it is the address of your account.
        </Note>
      )}
      {address === 'new' && (
        <Note tone="fine" title="Your address is changed">
          Sign in with {person.email} from now on.
        </Note>
      )}
      <OwnAccount
        name={person.name}
        email={person.email}
        passwordRule={PASSWORD_RULE.sentence}
        sessions={open
          .map((session) => ({
            token: session.token,
            here: session.token === here?.session.token,
            since: fullTime(new Date(session.createdAt), zone),
            machine: machineOf(session.userAgent),
          }))
          .sort((a, b) => Number(b.here) - Number(a.here))}
      />
    </Screen>
  );
}
