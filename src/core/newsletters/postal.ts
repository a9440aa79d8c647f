/** Why a postal address is asked, and the way out of showing one's home. Said wherever the field stands. */
export const POSTAL_HINT =
  'The law in most countries wants one in every letter. A box number or a mail-forwarding address will do; it need not be your home.';
