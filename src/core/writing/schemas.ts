import Joi from 'joi';
import { ALIGNS, type Document, MARKS, MOST_COLUMNS, MOST_CREDIT, MOST_LATEST, SPACES, WIDTHS } from './document';
import type { Layout } from './layout';
import { CORNERS, FACES, LETTER_WIDTHS, type Look, ROOMS, SIZES } from './look';

/* What documents, looks and layouts are checked by when they come from outside. Apart from their types, so that a browser need not load it. */

const href = Joi.string()
  .max(2_000)
  .pattern(/^(https?:|mailto:)/i);
const plainInline = [
  Joi.object({
    kind: Joi.valid('text').required(),
    text: Joi.string().allow('').max(100_000).required(),
    marks: Joi.array().items(Joi.valid(...MARKS)),
    href,
  }),
  Joi.object({ kind: Joi.valid('break').required() }),
  Joi.object({
    kind: Joi.valid('chip').required(),
    field: Joi.string().max(100).required(),
    fallback: Joi.string().allow('').max(200).required(),
  }),
];
const inline = Joi.array()
  .items(
    ...plainInline,
    Joi.object({
      kind: Joi.valid('note').required(),
      words: Joi.array()
        .items(...plainInline)
        .max(1_000)
        .required(),
    }),
  )
  .max(5_000);
const colour = Joi.string().pattern(/^#[0-9a-f]{6}$/);
const blockLook = Joi.object({
  align: Joi.valid(...ALIGNS),
  colour,
  ground: colour,
  width: Joi.valid(...WIDTHS),
});
const nodes = Joi.array().items(Joi.link('#node')).max(5_000);
/** One node of any kind that this version knows, with all that it holds. */
export const nodeSchema: Joi.Schema = Joi.alternatives(
  Joi.object({
    kind: Joi.valid('heading').required(),
    level: Joi.valid(1, 2, 3).required(),
    inline: inline.required(),
    look: blockLook,
  }),
  Joi.object({ kind: Joi.valid('byline').required(), text: Joi.string().max(500).required() }),
  Joi.object({ kind: Joi.valid('subtitle').required(), text: Joi.string().max(1_000).required() }),
  Joi.object({ kind: Joi.valid('paragraph').required(), inline: inline.required(), look: blockLook }),
  Joi.object({
    kind: Joi.valid('list').required(),
    ordered: Joi.boolean().required(),
    items: Joi.array().items(nodes).max(2_000).required(),
  }),
  Joi.object({ kind: Joi.valid('quote').required(), nodes: nodes.required() }),
  Joi.object({
    kind: Joi.valid('pull quote').required(),
    inline: inline.required(),
    by: Joi.string().allow('').max(200).required(),
    look: blockLook,
  }),
  Joi.object({ kind: Joi.valid('call-out').required(), nodes: nodes.required(), look: blockLook }),
  Joi.object({ kind: Joi.valid('columns').required(), columns: Joi.array().items(nodes).min(2).max(MOST_COLUMNS).required() }),
  Joi.object({
    kind: Joi.valid('gallery').required(),
    pictures: Joi.array()
      .items(Joi.object({ src: href.required(), alt: Joi.string().allow('').max(1_000).required(), href }))
      .min(1)
      .max(60)
      .required(),
  }),
  Joi.object({
    kind: Joi.valid('card').required(),
    href: href.required(),
    title: Joi.string().allow('').max(300).required(),
    words: Joi.string().allow('').max(1_000).required(),
    picture: href.allow('').required(),
  }),
  Joi.object({
    kind: Joi.valid('spacer').required(),
    size: Joi.valid(...SPACES).required(),
  }),
  Joi.object({ kind: Joi.valid('code').required(), text: Joi.string().allow('').max(100_000).required() }),
  Joi.object({
    kind: Joi.valid('table').required(),
    rows: Joi.array()
      .items(Joi.object({ head: Joi.boolean().required(), cells: Joi.array().items(inline).max(50).required() }))
      .max(1_000)
      .required(),
  }),
  Joi.object({
    kind: Joi.valid('picture').required(),
    src: href.required(),
    alt: Joi.string().allow('').max(1_000).required(),
    href,
    caption: inline,
    credit: Joi.string().trim().max(MOST_CREDIT),
    look: blockLook,
  }),
  Joi.object({
    kind: Joi.valid('button').required(),
    label: Joi.string().max(200).required(),
    href: href.required(),
    look: blockLook,
  }),
  Joi.object({ kind: Joi.valid('stay').required(), label: Joi.string().max(200).required() }),
  Joi.object({
    kind: Joi.valid('latest').required(),
    most: Joi.number().integer().min(1).max(MOST_LATEST).required(),
    words: Joi.boolean().required(),
  }),
  Joi.object({ kind: Joi.valid('sign-up').required(), formId: Joi.string().uuid().allow(null).required() }),
  Joi.object({
    kind: Joi.valid('part').required(),
    segmentId: Joi.string().uuid().required(),
    inside: Joi.boolean().required(),
    nodes: nodes.required(),
  }),
  Joi.object({ kind: Joi.valid('html').required(), html: Joi.string().allow('').max(100_000).required() }),
  Joi.object({ kind: Joi.valid('divider').required(), look: blockLook }),
).id('node');
/** Checks a document from outside; for its test and for whatever writes one. */
export const documentSchema = Joi.object<Document>({
  version: Joi.valid(1).required(),
  nodes: Joi.array().items(nodeSchema).max(5_000).required(),
});
const lookColour = Joi.string()
  .lowercase()
  .pattern(/^#[0-9a-f]{6}$/)
  .messages({ 'string.pattern.base': 'A colour is written as # and six digits or letters a to f.' })
  .required();
const face = Joi.valid(...Object.keys(FACES)).required();
const flag = Joi.boolean().required();

export const lookSchema = Joi.object<Look>({
  text: face,
  headings: face,
  size: Joi.valid(...SIZES).required(),
  width: Joi.valid(...LETTER_WIDTHS).required(),
  room: Joi.valid(...Object.keys(ROOMS)).required(),
  corners: Joi.valid(...Object.keys(CORNERS)).required(),
  colours: Joi.object({
    ink: lookColour,
    soft: lookColour,
    sheet: lookColour,
    page: lookColour,
    accent: lookColour.allow(''),
  }).required(),
  button: Joi.valid('filled', 'outlined').required(),
  head: Joi.object({ logo: flag, name: flag, see: flag, centred: flag }).required(),
  foot: Joi.object({
    words: Joi.string().trim().allow('').max(600).required(),
    links: flag,
    credit: flag,
    centred: flag,
  }).required(),
});

const place = Joi.alternatives(
  Joi.object({
    kind: Joi.valid('post').required(),
    part: Joi.valid('title', 'subtitle', 'picture', 'summary', 'body').required(),
  }),
  Joi.object({
    kind: Joi.valid('post').required(),
    part: Joi.valid('link').required(),
    label: Joi.string().max(120).allow('').required(),
  }),
  Joi.object({
    kind: Joi.valid('post').required(),
    part: Joi.valid('byline').required(),
    author: Joi.boolean().required(),
    day: Joi.boolean().required(),
  }),
);

/** Checks a layout from outside. */
export const layoutSchema = Joi.object<Layout>({
  version: Joi.valid(1).required(),
  look: lookSchema.required(),
  nodes: Joi.array().items(place, nodeSchema).min(1).max(50).required(),
});
