/**
 * How a mailbox behaves is said by how its address begins, so that every answer of the outside world can be had on purpose:
 *   nobody-…    no such user, said at once (550 5.1.1)
 *   gone-…      taken, then sent back with a notice, in one of five dialects (see `notices`)
 *   full-…      mailbox full (452 4.2.2)
 *   slow-…      "slow down" (451 4.7.1) for the first two minutes of this world's time, then taken
 *   grey-…      put off as unknown (450 4.2.0) for the first two minutes, then taken
 *   refuse-…    the letter is refused for policy (550 5.7.1); the mailbox itself is fine
 *   junk-…      refused for what it says (554 5.7.1)
 *   listed-…    refused since its sender is on a list (554 5.7.1)
 *   late-…      taken, with a warning that it is late; then it arrives
 *   away-…      taken, and answered with a note of absence
 *   answers-…   taken, and answered by a person, at the return path
 *   complains-… taken, and reported as junk
 *   verdicts@   taken, and answered with the head of the letter as it was received: what SPF, DKIM, DMARC and the reverse name gave
 * Everything else exists and takes mail.
 */
const MANNERS = [
  'nobody',
  'gone',
  'full',
  'slow',
  'grey',
  'refuse',
  'junk',
  'listed',
  'late',
  'away',
  'answers',
  'complains',
] as const;
export type Manner = 'takes' | (typeof MANNERS)[number];
export const PUT_OFF_MS = 120_000;

export const mannerOf = (address: string): Manner =>
  MANNERS.find((manner) => address.toLowerCase().startsWith(`${manner}-`)) ?? 'takes';

/** What is said to a recipient at once, where anything but "taken" is. `since` is how long ago they were first tried, in this world's time. */
export function saidToRecipient(manner: Manner, since: number): [code: number, text: string] | null {
  if (manner === 'nobody') return [550, '5.1.1 No such mailbox'];
  if (manner === 'full') return [452, '4.2.2 The mailbox is full'];
  if (manner === 'slow' && since < PUT_OFF_MS) return [451, '4.7.1 Slow down, please come again later'];
  if (manner === 'grey' && since < PUT_OFF_MS) return [450, '4.2.0 Greylisted, please come again in 120 seconds'];
  return null;
}

/** What is said to a whole letter, where anything but "taken" is. */
export function saidToLetter(manner: Manner): [code: number, text: string] | null {
  if (manner === 'refuse') return [550, '5.7.1 Not wanted here'];
  if (manner === 'junk') return [554, '5.7.1 Message rejected as spam by content scanner'];
  if (manner === 'listed') return [554, '5.7.1 Service unavailable; client host blocked using bl.lists.example'];
  return null;
}
