'use client';

import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react';
import clsx from 'clsx';
import { Check, ChevronDown, ChevronsUpDown, Feather, Plus, Search, Settings2 } from 'lucide-react';
import Link from 'next/link';
import { usePathname } from 'next/navigation';
import { Find } from './find';
import { SECTIONS } from './sections';

type Props = {
  slug: string;
  name: string;
  newsletters: { slug: string; name: string }[];
  person: { name: string; email: string };
  theme: string;
  signOut: () => Promise<void>;
  setTheme: (theme: string) => Promise<void>;
};

const initials = (name: string) =>
  name
    .split(/\s+/)
    .map((word) => word[0] ?? '')
    .join('')
    .slice(0, 2)
    .toUpperCase();

const ITEM = 'flex w-full items-center gap-2 rounded-sm px-2.5 py-2 text-left text-[13.5px] data-focus:bg-verdigris-tint';
const PANEL = 'z-30 mt-1 w-64 rounded-lg border bg-sheet p-1.5 shadow-float focus:outline-none';
const THEMES = [
  { value: 'auto', label: 'As the machine has it' },
  { value: 'light', label: 'Light' },
  { value: 'dark', label: 'Dark' },
];

/** The bar at the head of every screen: the newsletter, its seven sections, finding, settings, the account. */
export function Masthead({ slug, name, newsletters, person, theme, signOut, setTheme }: Props) {
  const path = usePathname();
  const base = `/desk/${slug}`;
  const here = SECTIONS.find((section) => path.startsWith(`${base}/${section.path}`));
  return (
    <header className="bg-sheet">
      <a href="#matter" className="sr-only focus:not-sr-only focus:absolute focus:z-40 focus:bg-sheet focus:p-3">
        Skip to the content
      </a>
      <div className="mx-auto flex h-14 max-w-[1440px] items-center gap-x-2 px-4 sm:gap-x-5 sm:px-7">
        <Menu>
          <MenuButton className="flex h-14 min-w-0 max-w-64 items-center gap-2.5 rounded-sm font-serif text-[20px] font-semibold">
            <Feather size={19} aria-hidden className="shrink-0" />
            <span className="truncate">{name}</span>
            <ChevronsUpDown size={15} aria-hidden className="shrink-0 text-ink-2" />
            <span className="sr-only">, choose a newsletter</span>
          </MenuButton>
          <MenuItems anchor="bottom start" className={PANEL}>
            {newsletters.map((other) => (
              <MenuItem key={other.slug}>
                <Link href={`/desk/${other.slug}/today`} className={ITEM}>
                  <Check size={15} aria-hidden className={clsx(other.slug !== slug && 'invisible')} />
                  <span className="truncate">{other.name}</span>
                </Link>
              </MenuItem>
            ))}
            <MenuItem>
              <Link href="/new" className={clsx(ITEM, 'border-t text-verdigris-ink')}>
                <Plus size={15} aria-hidden /> Another newsletter
              </Link>
            </MenuItem>
          </MenuItems>
        </Menu>
        <nav aria-label="Sections" className="hidden flex-1 lg:flex">
          {SECTIONS.map((section) => {
            return (
              <Link
                key={section.path}
                href={`${base}/${section.path}`}
                aria-current={section === here ? 'page' : undefined}
                className={clsx(
                  'flex h-14 items-center border-b-[3px] px-2.5 text-[14px] font-medium whitespace-nowrap xl:px-3',
                  section === here ? 'border-verdigris font-semibold text-ink' : 'border-transparent text-ink-2 hover:text-ink',
                )}
              >
                {section.label}
              </Link>
            );
          })}
        </nav>
        <div className="ml-auto flex shrink-0 items-center gap-1.5 sm:gap-2.5">
          <Menu as="div" className="lg:hidden">
            <MenuButton className="flex h-11 items-center gap-1.5 rounded-sm px-2 text-[14px] font-semibold">
              {here?.label ?? 'Sections'}
              <ChevronDown size={15} aria-hidden className="text-ink-2" />
              <span className="sr-only">, choose a section</span>
            </MenuButton>
            <MenuItems anchor="bottom end" className={PANEL}>
              {SECTIONS.map((section) => (
                <MenuItem key={section.path}>
                  <Link href={`${base}/${section.path}`} className={clsx(ITEM, 'h-11')}>
                    <Check size={15} aria-hidden className={clsx(section !== here && 'invisible')} /> {section.label}
                  </Link>
                </MenuItem>
              ))}
            </MenuItems>
          </Menu>
          <Find
            slug={slug}
            trigger={
              <>
                <Search size={16} aria-hidden />
                <span className="sr-only sm:not-sr-only">Find</span>
                <kbd className="hidden rounded-sm border px-1.5 font-mono text-[12px] text-ink-2 xl:inline">Ctrl K</kbd>
              </>
            }
          />
          <Link
            href={`${base}/settings`}
            aria-label="Settings of this newsletter"
            title="Settings"
            className="rounded-sm p-1.5 text-ink-2 hover:text-ink"
          >
            <Settings2 size={18} aria-hidden />
          </Link>
          <Menu>
            <MenuButton
              aria-label={`${initials(person.name)}, account of ${person.name}`}
              className="flex size-[30px] items-center justify-center rounded-full bg-slate-tint text-[12px] font-bold text-slate"
            >
              {initials(person.name)}
            </MenuButton>
            <MenuItems anchor="bottom end" className={PANEL}>
              <p className="px-2.5 py-1.5 text-small text-ink-2">
                <b className="block truncate text-ink">{person.name}</b>
                <span className="block truncate">{person.email}</span>
              </p>
              <p className="border-t px-2.5 pt-2 text-[12px] font-semibold text-ink-2">Paper and ink</p>
              {THEMES.map((choice) => (
                <MenuItem key={choice.value}>
                  <button type="button" className={ITEM} onClick={() => setTheme(choice.value)}>
                    <Check size={15} aria-hidden className={clsx(choice.value !== theme && 'invisible')} /> {choice.label}
                  </button>
                </MenuItem>
              ))}
              <MenuItem>
                <Link href="/account" className={clsx(ITEM, 'border-t')}>
                  Your account
                </Link>
              </MenuItem>
              <MenuItem>
                <button type="button" className={ITEM} onClick={() => signOut()}>
                  Sign out
                </button>
              </MenuItem>
            </MenuItems>
          </Menu>
        </div>
      </div>
      <div aria-hidden className="h-[3px] bg-ink" />
      <div aria-hidden className="mt-[2px] h-px bg-ink" />
    </header>
  );
}
