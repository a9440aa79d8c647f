/*
 * Stands in our own page that asks for a proof of work: solves the challenge and sends the form in again, before anybody has read that they
 * have to wait. Where it cannot, the page stays as it is, and pressing the button after a while works too.
 */
import { solve, type WorkChallenge } from '../core/forms/work';

// Replaced by the server.
declare const __CHALLENGE__: WorkChallenge;

solve(__CHALLENGE__).then(
  (proof) => {
    const form = document.querySelector('form')!;
    const input = document.createElement('input');
    input.type = 'hidden';
    input.name = 'proof';
    input.value = proof;
    form.append(input);
    form.submit();
  },
  () => {},
);
