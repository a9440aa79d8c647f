import fc from 'fast-check';
import { ALIGNS, type BlockLook, type Inline, MARKS, type Node, WIDTHS } from './document';

/* Documents by chance, for tests: every kind of node in every other that may hold it, and one of a later version. */

const words = fc.string({ minLength: 1, maxLength: 12, unit: fc.constantFrom('a', 'é', ' ', '🐟', '<', '*', '\n') });
const href = fc.constantFrom('https://a.example/?b=1&c=2', 'mailto:a@b.example');
const text: fc.Arbitrary<Inline> = fc
  .record({ text: words, marks: fc.subarray([...MARKS]), href: fc.option(href, { nil: undefined }) })
  .map(({ text, marks, href }) => ({ kind: 'text', text, ...(marks.length ? { marks } : {}), ...(href ? { href } : {}) }));
const note: fc.Arbitrary<Inline> = fc
  .array(text, { minLength: 1, maxLength: 2 })
  .map((words) => ({ kind: 'note', words: joined(words) }));
const inline: fc.Arbitrary<Inline[]> = fc
  .array(
    fc.oneof(
      { weight: 4, arbitrary: text },
      fc.constant<Inline>({ kind: 'break' }),
      note,
      fc.record({ kind: fc.constant('chip' as const), field: fc.constant('first_name'), fallback: words }),
    ),
    { maxLength: 4 },
  )
  .map(joined);

/** Runs with the same marks and the same link are one. */
function joined(inline: Inline[]): Inline[] {
  const out: Inline[] = [];
  for (const one of inline) {
    const last = out.at(-1);
    const like = (a: Inline) => JSON.stringify({ ...a, text: '' });
    if (one.kind === 'text' && last?.kind === 'text' && like(one) === like(last))
      out[out.length - 1] = { ...last, text: last.text + one.text };
    else out.push(one);
  }
  return out;
}
const colour = fc.constantFrom('#17645c', '#f7ecd4');
const look: fc.Arbitrary<{ look?: BlockLook }> = fc
  .option(
    fc
      .record(
        { align: fc.constantFrom(...ALIGNS), colour, ground: colour, width: fc.constantFrom(...WIDTHS) },
        { requiredKeys: [] },
      )
      .filter((one) => Object.keys(one).length > 0),
    { nil: undefined },
  )
  .map((one) => (one ? { look: one } : {}));
const withLook = (node: fc.Arbitrary<Node>): fc.Arbitrary<Node> =>
  fc.tuple(node, look).map(([one, own]) => ({ ...one, ...own }) as Node);
const segmentId = fc.constantFrom('018f0000-0000-7000-8000-000000000001', '018f0000-0000-7000-8000-000000000002');
const picture = fc.record({ src: href, alt: words });
export const { node } = fc.letrec<{ node: Node; nodes: Node[] }>((tie) => ({
  nodes: fc.array(tie('node'), { minLength: 1, maxLength: 3 }),
  node: fc.oneof(
    { maxDepth: 3, depthSize: 'small' },
    withLook(inline.map((said): Node => ({ kind: 'paragraph', inline: said }))),
    withLook(fc.record({ kind: fc.constant('heading' as const), level: fc.constantFrom(1, 2, 3), inline }) as fc.Arbitrary<Node>),
    withLook(fc.record({ kind: fc.constant('pull quote' as const), inline, by: words })),
    fc.record({ kind: fc.constant('part' as const), segmentId, inside: fc.boolean(), nodes: tie('nodes') }),
    fc.record({ kind: fc.constant('latest' as const), most: fc.integer({ min: 1, max: 10 }), words: fc.boolean() }),
    fc.record({ kind: fc.constant('sign-up' as const), formId: fc.option(segmentId) }),
    fc.record({ kind: fc.constant('html' as const), html: fc.constantFrom('<p>Own</p>', '<b>x', '<script>1</script>') }),
    fc.record({ kind: fc.constant('code' as const), text: words }),
    fc.constantFrom<Node>(
      { kind: 'divider' },
      { kind: 'divider', look: { colour: '#17645c' } },
      { kind: 'byline', text: 'x' },
      { kind: 'spacer', size: 'large' },
      { kind: 'subtitle', text: 'x' },
      { kind: 'stay', label: 'x' },
      { kind: 'hologram', depth: 3 } as never,
    ),
    withLook(
      fc.record({
        kind: fc.constant('picture' as const),
        src: href,
        alt: words,
        caption: fc.array(text, { minLength: 1, maxLength: 2 }),
        credit: words.map((said) => said.trim() || 'A diver'),
      }),
    ),
    withLook(fc.record({ kind: fc.constant('button' as const), label: words, href })),
    fc.record({ kind: fc.constant('gallery' as const), pictures: fc.array(picture, { minLength: 1, maxLength: 3 }) }),
    fc.record({ kind: fc.constant('card' as const), href, title: words, words, picture: href }),
    fc.integer({ min: 1, max: 3 }).chain((wide) =>
      fc.record({
        kind: fc.constant('table' as const),
        rows: fc.array(fc.record({ head: fc.boolean(), cells: fc.array(inline, { minLength: wide, maxLength: wide }) }), {
          minLength: 1,
          maxLength: 3,
        }),
      }),
    ),
    fc.record({
      kind: fc.constant('list' as const),
      ordered: fc.boolean(),
      items: fc.array(tie('nodes'), { minLength: 1, maxLength: 3 }),
    }),
    fc.record({ kind: fc.constant('quote' as const), nodes: tie('nodes') }),
    withLook(fc.record({ kind: fc.constant('call-out' as const), nodes: tie('nodes') }) as fc.Arbitrary<Node>),
    fc.record({ kind: fc.constant('columns' as const), columns: fc.array(tie('nodes'), { minLength: 2, maxLength: 3 }) }),
  ) as fc.Arbitrary<Node>,
}));
