import Joi from 'joi';

/**
 * An address that we may send people to: https, or http for tests on one's own machine; never javascript: or data:. One with characters that
 * an address cannot hold (RFC 3986) is kept as it goes over the wire.
 */
export const webAddress = (label: string) =>
  Joi.string()
    .trim()
    .max(500)
    .label(label)
    .allow('')
    .custom((value: string, helpers) => {
      if (!/^https?:\/\//i.test(value)) return helpers.error('url.scheme');
      if (!URL.canParse(value)) return helpers.error('url.whole');
      return /^[\w\-.~:/?#[\]@!$&'()*+,;=%]*$/.test(value) ? value : new URL(value).href;
    })
    .messages({
      'url.scheme': `“${label}” has to begin with https://.`,
      'url.whole': `“${label}” is not a whole address.`,
    })
    .default('');
