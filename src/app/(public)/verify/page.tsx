import type { Metadata } from 'next';
import Link from 'next/link';
import { redirect } from 'next/navigation';
import { PressOnce } from '@/ui/kit/press-once';
import { Said } from '../said';

export const metadata: Metadata = { title: 'Confirm your address', robots: { index: false } };
export const dynamic = 'force-dynamic';

const SAYS: Record<string, [title: string, sentence: string, button: string]> = {
  '': ['Confirm your address', 'One click, and your account is yours.', 'Confirm my address'],
  old: ['Another address for your account', 'One click, and the new address is asked next.', 'Yes, change it'],
  new: ['Your new address', 'One click, and this is the address of your account.', 'Use this address'],
};

export default async function Page({ searchParams }: { searchParams: Promise<Record<string, string | undefined>> }) {
  const { token, error, step = '' } = await searchParams;
  if (error)
    return (
      <Said
        title="This link does not work"
        sentence="It has run out, was used already, or a part of it is missing. Sign in, and a new one is sent if it is needed."
      >
        <p className="mt-5">
          <Link href="/sign-in" className="link font-semibold">
            Sign in
          </Link>
        </p>
      </Said>
    );
  if (!token) redirect('/');
  const [title, sentence, button] = SAYS[step] ?? SAYS['']!;
  return (
    <Said title={title} sentence={sentence}>
      <PressOnce action="/api/verify" button={button} byItself>
        <input type="hidden" name="token" value={token} />
        <input type="hidden" name="step" value={step} />
      </PressOnce>
    </Said>
  );
}
