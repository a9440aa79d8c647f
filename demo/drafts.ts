import type { Node } from '@/core/writing/document';
import type { Context, Newsletter } from '@/server/context';
import { newId } from '@/server/ids';
import { beginLetter, saveDraftLetter } from '@/server/sending/drafts';

const say = (text: string): Node => ({ kind: 'paragraph', inline: [{ kind: 'text', text }] });

/** Two letters that are being written: one nearly whole, one begun. */
const drafts = (blog: string): { title: string; subtitle: string; nodes: Node[] }[] => [
  {
    title: 'What we still do not know about krill',
    subtitle: '',
    nodes: [say('Where they sleep, if that is the word. Ask Pia about the second winter.')],
  },
  {
    title: 'Counting lights in the dark',
    subtitle: 'How do you count something that only shows itself when it is frightened?',
    nodes: [
      {
        kind: 'paragraph',
        inline: [
          { kind: 'text', text: 'Good morning, ' },
          { kind: 'chip', field: 'first_name', fallback: 'reader' },
          {
            kind: 'text',
            text: '. At six hundred metres the net comes up glowing. For about forty seconds every lanternfish in the cod-end is lit, then they go out, one after another.',
          },
          { kind: 'note', words: [{ kind: 'text', text: 'Forty-one, by the stopwatch of the second mate.' }] },
        ],
      },
      { kind: 'pull quote', inline: [{ kind: 'text', text: 'Like windows in a street.' }], by: '', look: { colour: '#17645c' } },
      { kind: 'heading', level: 2, inline: [{ kind: 'text', text: 'How we counted' }] },
      say('We tried three ways. The first was the honest one: a tray, a torch, and a tally counter.'),
      {
        kind: 'table',
        rows: [
          { head: true, cells: ['Haul', 'By hand', 'By eye'].map((text) => [{ kind: 'text', text }]) },
          { head: false, cells: ['14', '212', '190'].map((text) => [{ kind: 'text', text }]) },
          { head: false, cells: ['15', '98', '140'].map((text) => [{ kind: 'text', text }]) },
        ],
      },
      {
        kind: 'call-out',
        nodes: [say('Each haul was counted twice, by two people who did not speak to each other until supper.')],
      },
      {
        kind: 'button',
        label: 'Read the field notes',
        href: `${blog}/`,
      },
    ],
  },
];

/** Writes them as their writer would, a save each. */
export async function writeDrafts(ctx: Context, newsletter: Newsletter, name: string, blog: string): Promise<void> {
  for (const { title, subtitle, nodes } of drafts(blog)) {
    const { id } = await beginLetter(ctx, newsletter);
    await saveDraftLetter(ctx, newsletter, { name }, id, {
      key: newId(),
      leave: true,
      revision: 1,
      change: { at: 0, remove: 0, insert: nodes },
      title,
      subtitle,
      subject: null,
      previewLine: null,
      senderId: null,
      listId: null,
    });
  }
}
