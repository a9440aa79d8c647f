import Joi from 'joi';
import { describe, expect, it } from 'vitest';
import { check } from './check';

const schema = Joi.object<{ name: string; words: string; file: unknown }>({
  name: Joi.string().trim().max(10).required().label('Name'),
  words: Joi.string().allow(''),
  file: Joi.any(),
});

describe('input', () => {
  it('is kept as a database and a mail can hold it', () => {
    const read = check(schema, { name: ' A\u0000\u0007b ', words: 'one\rtwo\r\nthree\tfour\ud800' });
    expect(read).toEqual({ name: 'Ab', words: 'one\ntwo\nthree\tfour\ufffd' });
  });
  it('that is no text stays as it is', () => {
    const file = new File(['a\r\n\u0000'], 'x');
    expect(check(schema, { name: 'A', file }).file).toBe(file);
  });
  it('that holds nothing but what cannot be kept is empty', () => {
    expect(() => check(schema, { name: '\u0000' })).toThrow('“Name” is empty.');
    expect(() => check(schema, null)).toThrow();
  });
});
