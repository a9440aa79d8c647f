import type { Metadata } from 'next';
import Link from 'next/link';
import { counted, together } from '@/core/growth/figures';
import { FACES } from '@/core/writing/look';
import { layoutsOf } from '@/server/newsletters/layouts';
import { ActionButton } from '@/ui/kit/action-form';
import { Chip, Section } from '@/ui/kit/page';
import { deskOf } from '../../../../../desk';
import { make } from './actions';

export const metadata: Metadata = { title: 'Layouts' };

/** Kept once: how letters look, and what of a post stands in one. */
export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const layouts = await layoutsOf(ctx, newsletter);
  return (
    <Section title="Layouts" aside={counted(layouts.length, 'layout', 'layouts')}>
      <p className="py-2.5 text-ink-2">
        How letters look, and what of a post stands in one. The usual one is taken wherever no other is named: in letters, and in
        the mails that confirm and welcome.
      </p>
      <ul className="grid gap-4 sm:grid-cols-2 xl:grid-cols-3">
        {layouts.map(({ id, name, usual, layout, rules, letters }) => (
          <li key={id} className="rounded-lg border bg-sheet">
            <Link href={`/desk/${slug}/settings/layouts/${id}`} className="block" aria-label={`Change the layout ${name}`}>
              <span
                aria-hidden
                className="block rounded-t-lg border-b px-6 pt-5"
                style={{ background: layout.look.colours.page, color: layout.look.colours.ink }}
              >
                <span
                  className="block h-28 overflow-hidden px-5 pt-4"
                  style={{
                    background: layout.look.colours.sheet,
                    fontFamily: FACES[layout.look.text],
                    textAlign: layout.look.head.centred ? 'center' : 'start',
                  }}
                >
                  <span className="block text-[12px]" style={{ color: layout.look.colours.accent || newsletter.accent }}>
                    {newsletter.name}
                  </span>
                  <span className="block text-[19px] leading-6" style={{ fontFamily: FACES[layout.look.headings] }}>
                    What a letter is called
                  </span>
                  <span className="mt-1 block text-[12px] leading-[18px]">
                    Its first words stand here, in the face and the colours that all of them have.
                  </span>
                </span>
              </span>
            </Link>
            <div className="p-4 text-[13px]">
              <p className="font-semibold">
                {name} {usual && <Chip tone="fine">the usual one</Chip>}
              </p>
              <p className="mt-0.5 text-ink-2">
                {rules.length > 0 && <>Used by {together(rules.map((rule) => `“${rule}”`))}. </>}
                {letters > 0 && <>{counted(letters, 'letter that has', 'letters that have')} not left.</>}
                {rules.length === 0 && letters === 0 && (usual ? 'Wherever no other is named.' : 'Not used yet.')}
              </p>
            </div>
          </li>
        ))}
      </ul>
      <div className="mt-5">
        <ActionButton tone="main" action={make.bind(null, slug, null)}>
          Make a layout
        </ActionButton>
      </div>
    </Section>
  );
}
