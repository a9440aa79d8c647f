'use client';

import { useEffect, useState } from 'react';
import { ChoiceField } from '../kit/action-form';

/** The time zone, starting with the browser's own. */
export function ZoneField({ value }: { value?: string }) {
  const [zone, setZone] = useState(value ?? 'UTC');
  useEffect(() => {
    if (!value) setZone(Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC');
  }, [value]);
  const zones = [...new Set(['UTC', zone, ...Intl.supportedValuesOf('timeZone')])];
  return (
    <ChoiceField
      name="timeZone"
      label="Time zone"
      hint="Days and sending times are said in it."
      value={zone}
      onChange={(event) => setZone(event.target.value)}
      choices={zones.map((name) => ({ value: name, label: name.replace(/_/g, ' ') }))}
    />
  );
}
