import Joi from 'joi';

export const PLACEMENTS = ['panel', 'one line', 'ribbon', 'corner card', 'pop-up', 'after-post'] as const;
export type PlacementKind = (typeof PLACEMENTS)[number];

/** Does it come over the page, to be closed again? */
export const isOver = (kind: PlacementKind): boolean => kind === 'ribbon' || kind === 'corner card' || kind === 'pop-up';

/** Is it as flat as it goes? Then it has neither words under its heading nor a picture. */
export const shapeOf = (kind: PlacementKind): 'block' | 'line' => (kind === 'one line' || kind === 'ribbon' ? 'line' : 'block');

/** Where and when a form stands on a page. Read by the embed script too. */
export type Placement = {
  kind: PlacementKind;
  ribbonAt: 'top' | 'bottom';
  cornerAt: 'start' | 'end';
  /** What makes a ribbon, card or pop-up come: seconds, per cent scrolled, the pointer leaving, a click on an element. 0 and '' for not. */
  trigger: { seconds: number; scroll: number; leaving: boolean; click: string };
  /** Days before it comes again to somebody who closed it; 0 for never again. */
  againAfterDays: number;
  /** Where an article ends: the last element of this selector. */
  after: string;
  /** Path patterns; `*` stands for anything. Empty shows everywhere. */
  show: string[];
  hide: string[];
  /** Days (YYYY-MM-DD, inclusive); '' for open. */
  from: string;
  to: string;
};

export const STARTING_PLACEMENT: Placement = {
  kind: 'panel',
  ribbonAt: 'bottom',
  cornerAt: 'end',
  trigger: { seconds: 8, scroll: 0, leaving: false, click: '' },
  againAfterDays: 30,
  after: 'article',
  show: [],
  hide: [],
  from: '',
  to: '',
};

const day = Joi.string()
  .allow('')
  .pattern(/^\d{4}-\d{2}-\d{2}$/)
  .default('');
const patterns = Joi.array().items(Joi.string().trim().min(1).max(200)).max(50).default([]);
/** A selector without anything that could leave a style sheet or attribute. */
const selector = Joi.string()
  .allow('')
  .max(200)
  .pattern(/^[^<>{}\\]*$/);
export const placementSchema = Joi.object<Placement>({
  kind: Joi.string()
    .valid(...PLACEMENTS)
    .default('panel'),
  ribbonAt: Joi.string().valid('top', 'bottom').default('bottom'),
  cornerAt: Joi.string().valid('start', 'end').default('end'),
  trigger: Joi.object({
    seconds: Joi.number().integer().min(0).max(600).default(8),
    scroll: Joi.number().integer().min(0).max(100).default(0),
    leaving: Joi.boolean().default(false),
    click: selector.default(''),
  }).default(STARTING_PLACEMENT.trigger),
  againAfterDays: Joi.number().integer().min(0).max(365).default(30),
  after: selector.default('article'),
  show: patterns,
  hide: patterns,
  from: day,
  to: day,
});
