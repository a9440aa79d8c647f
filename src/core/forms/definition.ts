import Joi from 'joi';

export type FormFieldKind = 'email' | 'text';
export type FormField = {
  /** `email` and `first_name` are the built-in names. */
  name: 'email' | 'first_name';
  kind: FormFieldKind;
  label: string;
  placeholder: string;
  required: boolean;
};

/** Everything a visitor can see of a form, and what they are told after sending it. */
export type FormDefinition = {
  heading: string;
  words: string;
  button: string;
  /** Said in place once the form was sent in. */
  thanks: string;
  fields: FormField[];
};

export const EMAIL_FIELD: FormField = {
  name: 'email',
  kind: 'email',
  label: 'Email',
  placeholder: 'you@example.com',
  required: true,
};
export const FIRST_NAME_FIELD: FormField = {
  name: 'first_name',
  kind: 'text',
  label: 'First name',
  placeholder: '',
  required: false,
};

/** What a new form starts as: it asks for the address and nothing else. */
export function startingForm(newsletterName: string): FormDefinition {
  return {
    heading: `${newsletterName}, by email`,
    words: 'New letters as they are written. Leave whenever you like.',
    button: 'Send me the next one',
    thanks: 'Nearly there. We have sent you a letter with one link in it: click it, and you are on the list.',
    fields: [EMAIL_FIELD],
  };
}

const text = (most: number, label: string) => Joi.string().trim().max(most).label(label);

export const formDefinitionSchema = Joi.object<FormDefinition>({
  heading: text(120, 'Heading').required(),
  words: text(400, 'Words under it').allow('').required(),
  button: text(60, 'Button').required(),
  thanks: text(400, 'Thanks').required(),
  fields: Joi.array()
    .items(
      Joi.object({
        name: Joi.string().valid('email', 'first_name').required(),
        kind: Joi.string().valid('email', 'text').required(),
        label: text(80, 'Label').required(),
        placeholder: text(80, 'Placeholder').allow('').required(),
        required: Joi.boolean().required(),
      }),
    )
    .unique('name')
    .has(Joi.object({ name: Joi.valid('email').required(), required: Joi.valid(true) }).unknown())
    .required()
    .messages({ 'array.hasUnknown': 'A form always asks for the email address.' }),
});

/** The words a visitor agreed to, kept with their consent. */
export const wordingShown = (form: FormDefinition) => [form.heading, form.words, `[${form.button}]`].filter(Boolean).join('\n');
