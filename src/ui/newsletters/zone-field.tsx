'use client';

import { useEffect, useState } from 'react';
import { LANGUAGES } from '@/core/newsletters/identity';
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

/** The language that letters and forms start in: the browser's own, where it is one of ours. */
export function LanguageField() {
  const [language, setLanguage] = useState('en');
  useEffect(() => {
    const own = navigator.languages.map((tag) => tag.split('-')[0]!.toLowerCase());
    setLanguage(own.find((tag) => LANGUAGES.some(([known]) => known === tag)) ?? 'en');
  }, []);
  return (
    <ChoiceField
      name="language"
      label="Language"
      value={language}
      onChange={(event) => setLanguage(event.target.value)}
      choices={LANGUAGES.map(([value, label]) => ({ value, label }))}
    />
  );
}
