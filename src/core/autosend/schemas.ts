import Joi from 'joi';
import { isZone } from '../zones';
import { type Rhythm, WEEKDAYS } from './rhythm';
import { HOLDS, MOST_POSTS, MOST_QUIET, type RuleSettings } from './rule';

/* What comes from outside, checked. Apart from the types, since browsers need not load it. */

const hour = Joi.string()
  .pattern(/^([01]\d|2[0-3]):[0-5]\d$/)
  .required()
  .label('Hour');
const day = Joi.number()
  .valid(...WEEKDAYS)
  .required()
  .label('Day');
const rhythm = Joi.alternatives<Rhythm>(
  Joi.object({ kind: Joi.valid('each').required() }),
  Joi.object({ kind: Joi.valid('days').required(), days: Joi.array().items(day).min(1).unique().required(), hour }),
  Joi.object({ kind: Joi.valid('monthly').required(), day: Joi.number().integer().min(1).max(31).required(), hour }),
  Joi.object({ kind: Joi.valid('gathered').required(), posts: Joi.number().integer().min(1).max(MOST_POSTS).required() }),
);
const words = (label: string) =>
  Joi.array()
    .items(Joi.string().trim().max(100).pattern(/\0/, { invert: true }))
    .max(40)
    .required()
    .label(label);
const line = (most: number) =>
  Joi.string()
    .trim()
    .allow('')
    .max(most)
    .pattern(/[\0\r\n]/, { invert: true })
    .required();

/** Settings from outside. */
export const ruleSettingsSchema: Joi.ObjectSchema<RuleSettings> = Joi.object({
  topics: words('Topics'),
  authors: words('Authors'),
  including: words('Words'),
  leavingOut: words('Words'),
  quietMinutes: Joi.number().integer().min(0).max(MOST_QUIET).required().label('Minutes'),
  rhythm: rhythm.required().label('Rhythm'),
  zone: Joi.string()
    .max(64)
    .custom((value: string, helpers) => (isZone(value) ? value : helpers.error('any.invalid')))
    .required()
    .label('Zone'),
  choices: Joi.object({ daily: hour, weekly: Joi.object({ day, hour }).required() })
    .allow(null)
    .required(),
  most: Joi.number().integer().min(1).max(MOST_POSTS).required().label('Posts in a letter'),
  rest: Joi.valid('next', 'never').required(),
  approval: Joi.object({
    hours: Joi.number().integer().min(1).max(336).required(),
    otherwise: Joi.valid('send', 'drop').required(),
  })
    .allow(null)
    .required(),
  holds: Joi.valid(...HOLDS).required(),
  article: Joi.boolean().required(),
  subject: line(200).label('Subject'),
  invitation: line(120).label('Invitation'),
  campaign: line(80)
    .pattern(/^[\w.~-]*$/)
    .label('Campaign')
    .messages({ 'string.pattern.base': 'A campaign is letters, digits and - _ . ~ without a space.' }),
  brake: Joi.number().integer().min(1).max(500).allow(null).required().label('New posts at once'),
});
