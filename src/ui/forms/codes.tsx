'use client';

import { type FormCode, SITE_GUIDES } from '@/core/forms/codes';
import { Copy } from '../kit/copy';

/** The codes that carry a form to a page, the one line first. */
export function Codes({ codes, snippet }: { codes: FormCode[]; snippet: string }) {
  const all = [
    ...codes,
    {
      kind: 'site',
      title: 'Where readers come from',
      follows: 'Once on every page of your site: remembers the first and the last way somebody came, without cookies.',
      code: snippet,
    },
  ];
  return (
    <>
      {all.map((code) => (
        <div key={code.kind} className="border-b border-rule-2 pb-3">
          <div className="flex items-center justify-between gap-3">
            <h3 className="text-[13.5px] font-semibold">{code.title}</h3>
            <Copy text={code.code} what={code.title.toLowerCase()} label="Copy" />
          </div>
          <p className="text-small text-ink-2">{code.follows}</p>
          <pre
            data-code={code.kind}
            // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls has to be reachable with the keyboard (WCAG 2.1.1)
            tabIndex={0}
            className="mt-2 max-h-28 overflow-auto rounded-md border bg-sheet p-2 font-mono text-[12px] break-all whitespace-pre-wrap"
          >
            {code.code}
          </pre>
        </div>
      ))}
      <h3 className="text-[13.5px] font-semibold">How it gets there</h3>
      {SITE_GUIDES.map((guide) => (
        <details key={guide.kind} className="border-b border-rule-2 pb-2">
          <summary className="cursor-pointer py-1 text-[13px]">{guide.kind}</summary>
          <ol className="list-decimal space-y-1 pl-5 text-small text-ink-2">
            {guide.steps.map((step) => (
              <li key={step}>{step}</li>
            ))}
          </ol>
        </details>
      ))}
    </>
  );
}
