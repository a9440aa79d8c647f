import { EXPORT_COLUMNS, EXPORT_KINDS, FIRST_EXPORTED } from '@/core/exporting';
import { ChoiceField } from '../kit/action-form';

const KIND_WORDS = { csv: 'CSV, for spreadsheets', 'json lines': 'JSON Lines, for programs' };

/** What is taken out of each reader, and in what form. */
export function ExportFields({ fields }: { fields: { id: string; label: string }[] }) {
  const columns = [
    ...Object.entries(EXPORT_COLUMNS).map(([value, label]) => ({ value, label })),
    ...fields.map(({ id, label }) => ({ value: `field ${id}`, label })),
  ];
  return (
    <>
      <ChoiceField name="kind" label="As" choices={EXPORT_KINDS.map((value) => ({ value, label: KIND_WORDS[value] }))} />
      <fieldset>
        <legend className="mb-1 text-small font-semibold text-ink-2">Columns</legend>
        <div className="grid gap-x-4 gap-y-1.5 sm:grid-cols-2">
          {columns.map(({ value, label }) => (
            <label key={value} className="flex items-center gap-2 text-[13.5px]">
              <input
                type="checkbox"
                name="column"
                value={value}
                defaultChecked={FIRST_EXPORTED.some((one) => one === value) || value.startsWith('field ')}
                className="size-4 accent-verdigris"
              />
              {label}
            </label>
          ))}
        </div>
      </fieldset>
    </>
  );
}

/** What a form with these fields says. */
export const exportSaid = (data: FormData) => ({ kind: data.get('kind'), columns: data.getAll('column') });
