import type { ReactNode } from 'react';
import { newKinds, type PARTS, type Part } from '@/core/importing/columns';
import { ChoiceField } from '../kit/action-form';

const PART_WORDS: Record<(typeof PARTS)[number], string> = {
  'leave out': 'Left out',
  address: 'The address',
  'first name': 'First name',
  name: 'Whole name',
  state: 'State: reading, left, bounced …',
  agreed: 'When they agreed',
  tags: 'Tags',
  note: 'Your note about them',
  language: 'Language',
  zone: 'Time zone',
};
const MOST_OPEN = 30;

type Props = {
  columns: { name: string; part: Part; examples: string[] }[];
  fields: { id: string; label: string }[];
};

/** What each column of a file is, with what stands in it. */
export function ColumnPlan({ columns, fields }: Props) {
  const choices = [
    ...Object.entries(PART_WORDS).map(([value, label]) => ({ value, label })),
    ...fields.map(({ id, label }) => ({ value: `field ${id}`, label: `Answer: ${label}` })),
    ...newKinds.map((kind) => ({ value: `new ${kind}`, label: `A new field of kind ${kind}` })),
  ];
  const rows: ReactNode[] = columns.map((column, at) => (
    <div key={at} className="grid items-start gap-x-6 gap-y-1 border-b border-rule-2 py-3 sm:grid-cols-[minmax(0,1fr)_260px]">
      <div className="min-w-0">
        <p className="font-semibold break-words">{column.name}</p>
        <p className="text-[13px] break-words text-ink-2">{column.examples.join(' · ') || 'Nothing stands in it.'}</p>
      </div>
      <ChoiceField name={`part ${at}`} label={`“${column.name}” is`} choices={choices} defaultValue={column.part} />
    </div>
  ));
  return (
    <div>
      {rows.slice(0, MOST_OPEN)}
      {rows.length > MOST_OPEN && (
        <details>
          <summary className="link cursor-pointer py-3">{rows.length - MOST_OPEN} more columns</summary>
          {rows.slice(MOST_OPEN)}
        </details>
      )}
    </div>
  );
}
