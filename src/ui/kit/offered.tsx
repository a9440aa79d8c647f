'use client';

import { MenuItem, MenuItems } from '@headlessui/react';

/** What a menu offers to be put in, by its label. */
export function Offered<T>({ parts, add }: { parts: { label: string; part: T }[]; add: (part: T) => void }) {
  return (
    <MenuItems
      anchor="bottom start"
      className="z-40 mt-1 max-h-80 w-64 overflow-y-auto rounded-lg border bg-sheet p-1.5 shadow-float focus:outline-none"
    >
      {parts.map(({ label, part }) => (
        <MenuItem key={label}>
          <button
            type="button"
            className="w-full rounded-sm px-2.5 py-1.5 text-left text-[13.5px] data-focus:bg-verdigris-tint"
            onClick={() => add(part)}
          >
            {label}
          </button>
        </MenuItem>
      ))}
    </MenuItems>
  );
}
