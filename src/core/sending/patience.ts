/** How long each answer of a mail server is waited for, in milliseconds. */
export type Patience = Record<
  'connect' | 'greeting' | 'hello' | 'tls' | 'login' | 'mail' | 'recipient' | 'data' | 'block' | 'end',
  number
>;

const MINUTE = 60_000;
/** RFC 5321 section 4.5.3.2; of connecting and encrypting it says nothing. */
export const PATIENCE: Patience = {
  connect: 30_000,
  greeting: 5 * MINUTE,
  hello: 5 * MINUTE,
  tls: MINUTE,
  login: 2 * MINUTE,
  mail: 5 * MINUTE,
  recipient: 5 * MINUTE,
  data: 2 * MINUTE,
  block: 3 * MINUTE,
  end: 10 * MINUTE,
};
