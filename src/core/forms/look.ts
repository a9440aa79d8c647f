import Joi from 'joi';
import postcss from 'postcss';
import { contrast } from '../newsletters/identity';
import { webAddress } from './web-address';

/** Font stacks that every machine has; nothing is fetched for a form. */
export const FONTS: Record<string, string> = {
  page: 'inherit',
  serif: "Georgia,'Times New Roman',serif",
  sans: "system-ui,-apple-system,'Segoe UI',Arial,sans-serif",
  book: "'Iowan Old Style','Palatino Linotype',Palatino,serif",
  typewriter: "ui-monospace,'Courier New',monospace",
};

export type Look = {
  /** Takes background and button from the newsletter; the colours below are for when it does not. */
  inherits: boolean;
  background: string;
  /** '' is as the ground asks, so that it can be read. */
  ink: string;
  buttonColour: string;
  /** '' is as the button asks. */
  buttonInk: string;
  border: string;
  borderWidth: number;
  radius: number;
  padding: number;
  /** Pixels; 0 fills what it stands in. */
  width: number;
  align: 'start' | 'centre';
  font: keyof typeof FONTS & string;
  headingFont: keyof typeof FONTS & string;
  /** Pixels; on one line the heading is smaller. */
  headingSize: number;
  /** Other colours where the visitor's machine is dark. */
  dark: { on: boolean; background: string; ink: string };
  picture: { url: string; alt: string; stands: 'above' | 'beside' };
  css: string;
};

export const STARTING_LOOK: Look = {
  inherits: true,
  background: '#10282f',
  ink: '',
  buttonColour: '#c1ebde',
  buttonInk: '',
  border: '#10282f',
  borderWidth: 0,
  radius: 6,
  padding: 26,
  width: 0,
  align: 'start',
  font: 'sans',
  headingFont: 'serif',
  headingSize: 24,
  dark: { on: false, background: '#14171d', ink: '' },
  picture: { url: '', alt: '', stands: 'above' },
  css: '',
};

/** Looks to start from: ours, and few. */
export const LOOKS: Record<string, Partial<Look>> = {
  'Night water': {},
  'Paper slip': {
    inherits: false,
    background: '#fffefb',
    ink: '#1c2230',
    buttonColour: '#17645c',
    buttonInk: '#fffefb',
    border: '#d8d5ca',
    borderWidth: 1,
  },
  'Margin note': {
    inherits: false,
    background: '#f6f5f0',
    ink: '#1c2230',
    buttonColour: '#1c2230',
    buttonInk: '#fffefb',
    border: '#1c2230',
    borderWidth: 0,
    radius: 0,
    padding: 18,
    font: 'book',
    headingFont: 'book',
  },
  Chalk: {
    inherits: false,
    background: '#2a2e37',
    ink: '#f6f5f0',
    buttonColour: '#f6f5f0',
    buttonInk: '#2a2e37',
    radius: 14,
    align: 'centre',
  },
};

const colour = (label: string) =>
  Joi.string()
    .pattern(/^#[0-9a-f]{6}$/i)
    .lowercase()
    .label(label)
    .messages({ 'string.pattern.base': `“${label}” is written like #17645c.` });
const inkOf = (label: string) => colour(label).allow('').default('');

export const lookSchema = Joi.object<Look>({
  inherits: Joi.boolean().default(true),
  background: colour('Background').default(STARTING_LOOK.background),
  ink: inkOf('Words'),
  buttonColour: colour('Button').default(STARTING_LOOK.buttonColour),
  buttonInk: inkOf('Words on the button'),
  border: colour('Border').default(STARTING_LOOK.border),
  borderWidth: Joi.number().integer().min(0).max(8).default(0),
  radius: Joi.number().integer().min(0).max(40).default(6),
  padding: Joi.number().integer().min(0).max(80).default(26),
  width: Joi.number().integer().min(0).max(1200).default(0),
  align: Joi.string().valid('start', 'centre').default('start'),
  font: Joi.string()
    .valid(...Object.keys(FONTS))
    .default('sans'),
  headingFont: Joi.string()
    .valid(...Object.keys(FONTS))
    .default('serif'),
  headingSize: Joi.number().integer().min(14).max(48).default(24).label('Size of the heading'),
  dark: Joi.object({
    on: Joi.boolean().default(false),
    background: colour('Background').default(STARTING_LOOK.dark.background),
    ink: inkOf('Words'),
  }).default(STARTING_LOOK.dark),
  picture: Joi.object({
    url: webAddress('Picture'),
    alt: Joi.string().allow('').trim().max(200).default(''),
    stands: Joi.string().valid('above', 'beside').default('above'),
  }).default(STARTING_LOOK.picture),
  css: Joi.string()
    .allow('')
    .max(10_000)
    .default('')
    .custom((value, helpers) => {
      const result = scopedCss(value);
      return 'fault' in result ? helpers.message({ custom: result.fault }) : value;
    }),
});

/** A look with the newsletter's colour in it where it inherits, and every ink that is as its ground asks. */
export function effectiveLook(look: Look, newsletterColour: string): Look {
  const background = look.inherits ? newsletterColour : look.background;
  return {
    ...look,
    background,
    border: look.inherits ? newsletterColour : look.border,
    ink: look.inherits ? readable(background) : look.ink || readable(background),
    buttonInk: look.buttonInk || readable(look.buttonColour),
    dark: { ...look.dark, ink: look.dark.ink || readable(look.dark.background) },
  };
}

/** Our own two inks where one of them can be read on it; on the few colours between, pure white or black, of which one always can. */
export const readable = (background: string) =>
  ['#f6f5f0', '#1c2230', '#ffffff', '#000000'].find((ink) => contrast(ink, background) >= 4.5) ?? '#000000';

export type Faint = { what: string; ratio: number; wanted: number };
/** Pairs of colours that are too close for many eyes (WCAG 2.2 sections 1.4.3 and 1.4.11). */
export function faintPairs(look: Look): Faint[] {
  const pairs: [string, string, string, number][] = [
    ['Words on the background', look.ink, look.background, 4.5],
    ['Words on the button', look.buttonInk, look.buttonColour, 4.5],
    ['The button on the background', look.buttonColour, look.background, 3],
    ...(look.dark.on
      ? ([['Words on the dark background', look.dark.ink, look.dark.background, 4.5]] as [string, string, string, number][])
      : []),
  ];
  return pairs
    .map(([what, a, b, wanted]) => ({ what, ratio: contrast(a, b), wanted }))
    .filter(({ ratio, wanted }) => ratio < wanted);
}

const ALLOWED_RULES = new Set(['media', 'supports']);
/** What could reach outside the form, fetch something or run something. */
const UNSAFE_VALUE = /url\s*\(|image-set|expression|javascript:|@import|-moz-binding|behavior\s*:|\\/i;
const UNSAFE_PROPERTY = /^(behavior|-moz-binding|position|z-index|content|pointer-events)$/i;
const MOST_RULES = 200;

/** A string ends on its own line (CSS Syntax 3 section 4.3.5), or browsers read on differently from how we did. */
const hasBrokenString = (css: string): boolean =>
  /["']/.test(css.replace(/"(?:[^"\\\n\r\f]|\\[\s\S])*"|'(?:[^'\\\n\r\f]|\\[\s\S])*'/g, ''));

/**
 * A writer's own CSS, kept to the form: every selector is put below `.ink-form`, other at-rules than media and supports are dropped, and so
 * is what could fetch, run, cover the page or escape. A fault when it cannot be parsed.
 */
export function scopedCss(css: string): { css: string } | { fault: string } {
  if (css.trim() === '') return { css: '' };
  let root: postcss.Root;
  try {
    root = postcss.parse(css);
  } catch (error) {
    const { reason, line } = error as { reason?: string; line?: number };
    return { fault: `Your CSS cannot be read${line ? ` at line ${line}` : ''}${reason ? `: ${reason}` : ''}.` };
  }
  root.walkComments((comment) => {
    comment.remove();
  });
  // Comments within values are kept beside them, and would be written back.
  root.walk((node) => {
    for (const raw of ['value', 'params', 'selector', 'important'] as const) delete (node.raws as Record<string, unknown>)[raw];
  });
  if (hasBrokenString(root.toString()))
    return { fault: 'Your CSS has a string that breaks off: a quotation mark without its partner on the same line.' };
  let rules = 0;
  root.walkAtRules((rule) => {
    if (!ALLOWED_RULES.has(rule.name.toLowerCase()) || UNSAFE_VALUE.test(rule.params) || rule.params.includes('<')) rule.remove();
  });
  root.walkDecls((declaration) => {
    if (
      UNSAFE_PROPERTY.test(declaration.prop) ||
      UNSAFE_VALUE.test(declaration.value) ||
      UNSAFE_VALUE.test(declaration.prop) ||
      declaration.parent?.type === 'root'
    )
      declaration.remove();
  });
  root.walkRules((rule) => {
    rules += 1;
    if (rules > MOST_RULES || /[<>{}\\]|@/.test(rule.selector.replace(/ > /g, ' '))) return void rule.remove();
    const scoped = rule.selectors
      .map((selector) =>
        selector
          .trim()
          .replace(/^(:root|html|body|\.ink-form)\b/i, '')
          .trim(),
      )
      // A sibling of the form is not in the form.
      .filter((inner) => !/^[~+|]/.test(inner))
      .map((inner) => (inner ? `.ink-form ${inner}` : '.ink-form'));
    if (scoped.length) rule.selectors = scoped;
    else rule.remove();
  });
  // Nothing in it can end the style element it stands in, or begin another.
  return { css: root.toString().replace(/</g, '\\3c ') };
}

/** From so many pixels on, one line is one line. */
export const LINE_FROM = 480;

/**
 * One row of heading, questions and button from 480 pixels on, and under each other below: a basis of flex that is huge in a narrower box and
 * nothing in a wider one, since a container query would take the box its width from its contents, and in some pages that is none.
 */
function lineCss(look: Look): string {
  const inside = LINE_FROM - 2 * (Math.min(look.padding, 20) + look.borderWidth);
  const basis = `calc((${inside}px - 100%)*999)`;
  const centre = look.align === 'centre' ? ';justify-content:center' : '';
  return [
    `.ink-form{display:flex;flex-wrap:wrap;gap:8px 12px;align-items:center${centre}}`,
    `.ink-form h2{flex:3 1 ${basis};margin:0;font-size:17px;line-height:1.2}`,
    '.ink-row{display:contents}',
    `.ink-row>.ink-field{flex:4 1 ${basis};min-width:min(120px,100%)}`,
    // What is ticked needs its words, and so a row of its own.
    '.ink-row>fieldset.ink-field,.ink-row>.ink-wide{flex:1 1 100%}',
    // The label of a question stands in it, and is there for whoever listens.
    '.ink-row>label.ink-field>span:first-child{position:absolute;width:1px;height:1px;overflow:hidden;clip-path:inset(50%);white-space:nowrap}',
    '.ink-row>.ink-fault{flex:1 1 100%}',
    `.ink-form button{flex:0 1 auto;max-width:max(45%,${basis})}`,
    '.ink-form>p.ink-small{flex:1 1 100%;margin:0!important}',
  ].join('');
}

/**
 * The look of a form as CSS; scoped to its own classes so that it can stand bare on a page, in a frame or in a shadow root. With the form's
 * HTML given, rules for what it does not have are left out: a page that only carries the form pays for no more.
 */
export function formCss(look: Look, shape: 'block' | 'line' = 'block', html?: string): string {
  const centre = look.align === 'centre';
  const own = scopedCss(look.css);
  const has = (part: string) => html === undefined || html.includes(part);
  const small = Math.min(look.radius, 8);
  const inputs = ['input', 'textarea', 'select'].filter((name) => name === 'input' || has(`<${name}`));
  return [
    `.ink-form{box-sizing:border-box;width:100%;max-width:${look.width ? `${look.width}px` : 'none'};margin:0 auto;padding:${shape === 'line' ? `${Math.min(look.padding, 14)}px ${Math.min(look.padding, 20)}px` : `${look.padding}px`};border:${look.borderWidth}px solid ${look.border};border-radius:${look.radius}px;background:${look.background};color:${look.ink};font:16px/1.5 ${FONTS[look.font]};text-align:${centre ? 'center' : 'start'};overflow-wrap:anywhere}`,
    '.ink-form *{box-sizing:border-box}',
    `.ink-form h2{margin:0 0 6px;font:500 ${look.headingSize}px/1.25 ${FONTS[look.headingFont]};color:inherit}`,
    '.ink-form p{margin:0 0 14px;color:inherit}',
    has('<a ') && '.ink-form a{color:inherit}',
    has('<img') &&
      `.ink-form img{display:block;max-width:100%;height:auto;border-radius:${Math.min(look.radius, 12)}px;${look.picture.stands === 'beside' ? 'float:inline-end;width:34%;margin:0 0 12px;margin-inline-start:20px' : `margin:0 ${centre ? 'auto' : '0'} 16px`}}@media(max-width:480px){.ink-form img{float:none;width:100%;margin:0 0 14px}}`,
    `.ink-row{display:flex;flex-wrap:wrap;gap:12px;align-items:flex-end${centre ? ';justify-content:center' : ''}}`,
    '.ink-field{flex:1 1 100%;display:block;min-width:0;margin:0;padding:0;border:0;font-size:13px}',
    has('ink-half') && '.ink-half{flex:1 1 180px}',
    '.ink-field>span,.ink-field>legend{display:block;padding:0;margin:0 0 4px}',
    has('ink-help') && '.ink-help{display:block;margin-top:4px;font-size:12.5px;opacity:.85}',
    `${inputs.map((name) => `.ink-field ${name}`).join()}{display:block;width:100%;min-height:44px;padding:10px 12px;border:1px solid #7b8190;border-radius:${small}px;background:#fffefb;color:#1c2230;font:inherit;font-size:16px;line-height:1.25}`,
    has('<textarea') && '.ink-field textarea{min-height:88px}',
    has('ink-tick') &&
      `.ink-tick{display:flex;gap:10px;align-items:flex-start;${centre ? 'justify-content:center;' : ''}margin:6px 0;font-size:14px}.ink-tick input{flex:0 0 auto;width:20px;height:20px;min-height:0;margin:1px 0 0;accent-color:${look.buttonColour}}`,
    `.ink-form button{flex:0 0 auto;min-height:44px;padding:11px 18px;border:0;border-radius:${small}px;background:${look.buttonColour};color:${look.buttonInk};font:600 16px/1.25 ${FONTS[look.font]};cursor:pointer}`,
    '.ink-form button[disabled]{opacity:.6;cursor:default}',
    `.ink-form :focus-visible{outline:3px solid ${look.buttonColour};outline-offset:2px}`,
    // Said by the page's script too, so never left out.
    '.ink-fault{display:block;margin-top:4px;padding:3px 6px;border-radius:3px;background:#f8e6e2;color:#8b231c;font-size:13px}',
    has('ink-small') && '.ink-small{margin:12px 0 0!important;font-size:13px}',
    // The trap for machines: not laid out at all, so that no browser fills it in for people, and it costs the page nothing.
    '.ink-form [hidden]{display:none!important}',
    '.ink-thanks{font-size:17px}',
    shape === 'line' && lineCss(look),
    look.dark.on &&
      `@media(prefers-color-scheme:dark){.ink-form{background:${look.dark.background};color:${look.dark.ink};border-color:${look.dark.background}}}`,
    'css' in own && own.css,
  ]
    .filter(Boolean)
    .join('\n');
}
