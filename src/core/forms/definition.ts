import Joi from 'joi';
import { EMAIL_FIELD, type FormField, fieldSchema } from './fields';
import { type Look, lookSchema, STARTING_LOOK } from './look';
import { type Placement, placementSchema, STARTING_PLACEMENT, shapeOf } from './placement';
import { webAddress } from './web-address';
import { FORM_WORDS, fill, wordsOf } from './words';

/** What happens after a form was sent in, and after it was confirmed. */
export type Next = {
  /** Where the visitor is taken at once; '' for thanks in place. */
  redirect: string;
  /** The confirmation letter; empty parts are said in the form's language. */
  confirmation: { subject: string; heading: string; words: string; button: string; senderId: string };
  /** The page after confirming: our own with these words, or another address. */
  confirmed: { title: string; words: string; redirect: string };
  /** Promised to whoever signs up, given on confirming: an address, or a file kept by us. */
  gift: { kind: 'none' | 'link' | 'file'; label: string; url: string; fileId: string };
  /** A letter at once after confirming. */
  welcome: { on: boolean; subject: string; words: string };
  tags: string[];
  /** One gentle second confirmation letter to those who still wait after three days. */
  reminder: boolean;
  /** Owners are told of each sign-up that confirms, whatever the newsletter's setting. */
  tellOwners: boolean;
};

/** Everything a visitor can see of a form, where it stands, and what happens next. A form's draft and each of its versions are one of these. */
export type FormDefinition = {
  language: string;
  heading: string;
  words: string;
  button: string;
  /** Said in place once the form was sent in. */
  thanks: string;
  fields: FormField[];
  /** A tick with wording that has to be set; '' for none. */
  consent: string;
  /** A line under the button, with an address it may lead to. */
  terms: { words: string; url: string };
  /** Lists the visitor chooses among; empty where the form gives its lists without asking. */
  listChoice: string[];
  /** Shows how many read the newsletter, from this many on; 0 for never. */
  countFrom: number;
  look: Look;
  placement: Placement;
  next: Next;
};

export const STARTING_NEXT: Next = {
  redirect: '',
  confirmation: { subject: '', heading: '', words: '', button: '', senderId: '' },
  confirmed: { title: '', words: '', redirect: '' },
  gift: { kind: 'none', label: '', url: '', fileId: '' },
  welcome: { on: false, subject: '', words: '' },
  tags: [],
  reminder: true,
  tellOwners: false,
};

/** What a new form starts as: it asks for the address and nothing else. */
export function startingForm(newsletterName: string, language = 'en'): FormDefinition {
  const words = wordsOf(language);
  return {
    language: language in FORM_WORDS ? language : 'en',
    heading: fill(words.heading, { name: newsletterName }),
    words: words.words,
    button: words.button,
    thanks: words.thanks,
    fields: [{ ...EMAIL_FIELD, label: words.email }],
    consent: '',
    terms: { words: '', url: '' },
    listChoice: [],
    countFrom: 0,
    look: STARTING_LOOK,
    placement: STARTING_PLACEMENT,
    next: STARTING_NEXT,
  };
}

const text = (most: number, label: string) => Joi.string().trim().max(most).label(label);
export const formDefinitionSchema = Joi.object<FormDefinition>({
  language: Joi.string()
    .valid(...Object.keys(FORM_WORDS))
    .default('en'),
  heading: text(120, 'Heading').required(),
  words: text(400, 'Words under it').allow('').required(),
  button: text(60, 'Button').required(),
  thanks: text(400, 'Thanks').required(),
  fields: Joi.array()
    .items(fieldSchema)
    .max(30)
    .unique('key')
    .has(
      Joi.object({
        key: Joi.valid('email').required(),
        kind: Joi.valid('email').required(),
        required: Joi.valid(true),
      }).unknown(),
    )
    .required()
    .messages({
      'array.hasUnknown': 'A form always asks for the email address.',
      'array.unique': 'Two fields have the same name.',
    }),
  consent: text(400, 'Consent').allow('').default(''),
  terms: Joi.object({ words: text(200, 'Terms').allow('').default(''), url: webAddress('Terms address') }).default({
    words: '',
    url: '',
  }),
  listChoice: Joi.array().items(Joi.string().uuid()).max(20).default([]),
  countFrom: Joi.number().integer().min(0).max(10_000_000).default(0),
  look: lookSchema.default(STARTING_LOOK),
  placement: placementSchema.default(STARTING_PLACEMENT),
  next: Joi.object<Next>({
    redirect: webAddress('Redirect'),
    confirmation: Joi.object({
      subject: text(150, 'Subject').allow('').default(''),
      heading: text(120, 'Heading').allow('').default(''),
      words: text(600, 'Words').allow('').default(''),
      button: text(60, 'Button').allow('').default(''),
      senderId: Joi.string().uuid().allow('').default(''),
    }).default(STARTING_NEXT.confirmation),
    confirmed: Joi.object({
      title: text(120, 'Title').allow('').default(''),
      words: text(600, 'Words').allow('').default(''),
      redirect: webAddress('Page after confirming'),
    }).default(STARTING_NEXT.confirmed),
    gift: Joi.object({
      kind: Joi.string().valid('none', 'link', 'file').default('none'),
      label: text(120, 'Gift').allow('').default(''),
      url: webAddress('Gift address'),
      fileId: text(60, 'File').allow('').default(''),
    }).default(STARTING_NEXT.gift),
    welcome: Joi.object({
      on: Joi.boolean().default(false),
      subject: text(150, 'Subject').allow('').default(''),
      words: text(4000, 'Words').allow('').default(''),
    }).default(STARTING_NEXT.welcome),
    tags: Joi.array().items(text(40, 'Tag').lowercase().min(1)).max(20).unique().default([]),
    reminder: Joi.boolean().default(true),
    tellOwners: Joi.boolean().default(false),
  }).default(STARTING_NEXT),
});

/** The words a visitor agreed to, kept with their consent. */
export const wordingShown = (form: FormDefinition) =>
  [
    form.heading,
    shapeOf(form.placement.kind) === 'block' && form.words,
    form.consent && `[x] ${form.consent}`,
    form.terms.words,
    `[${form.button}]`,
  ]
    .filter(Boolean)
    .join('\n');
