import { Feather } from 'lucide-react';
import type { ReactNode } from 'react';

export default function Layout({ children }: { children: ReactNode }) {
  return (
    <div className="mx-auto max-w-md px-5 py-[10vh]">
      <header className="mb-7 flex items-center gap-2.5 border-b-[3px] border-double border-b-ink pb-3 font-serif text-[22px] font-semibold">
        <Feather size={20} aria-hidden /> Inkset
      </header>
      <main>{children}</main>
    </div>
  );
}
