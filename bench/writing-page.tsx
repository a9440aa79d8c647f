import { createRoot } from 'react-dom/client';
import type { Document } from '@/core/writing/document';
import { Writer } from '@/ui/writing/writer';

/* The place where letters are written, on a page of its own, with nothing behind it but what the bench answers. */

const nothing = async () => ({ ok: true as const, value: null });

async function open(): Promise<void> {
  const document_: Document = await (await fetch(`/document${location.search}`)).json();
  performance.mark('there');
  createRoot(document.getElementById('root')!).render(
    <Writer
      id="bench"
      base=""
      revision={1}
      savedAt={new Date().toISOString()}
      written={{
        title: 'Ten thousand words',
        subtitle: '',
        subject: null,
        previewLine: null,
        senderId: null,
        layoutId: null,
        document: document_,
      }}
      senders={[]}
      layouts={[]}
      around={{ segments: [], forms: [], fields: [] }}
      asPage={null}
      view="write"
      zone="UTC"
      me="writer@lanternfish.example"
      proof={nothing}
      saveText={nothing}
    />,
  );
}
void open();
