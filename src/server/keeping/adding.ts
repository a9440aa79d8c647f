import Joi from 'joi';
import { Fault } from '@/core/faults';
import { parseAddress } from '@/core/readers/address';
import { type Agreement, agreementSchema, firstNameSchema } from '@/core/readers/bulk';
import { folded } from '@/core/readers/condition';
import type { Person } from '../auth/session';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { inTransaction } from '../db/connection';
import { newId } from '../ids';
import { suppressedAmong } from '../readers/suppressed';
import { addToList } from './acts';

const schema = Joi.object<{ address: string; firstName: string; listId: string; how: Agreement['how']; said: string }>({
  address: Joi.string().trim().required().label('Address'),
  firstName: firstNameSchema,
  listId: Joi.string().uuid().required().label('List'),
  how: Joi.string().valid('vouched', 'asked').required(),
  said: Joi.string().trim().allow('').max(1_000).default(''),
});

const SUPPRESSED = {
  'hard bounce': 'This mailbox does not exist: a letter to it came back.',
  complaint: 'Whoever has this address reported a letter as unwanted. They come back only by themselves.',
  erased: 'This reader was erased at their wish. They come back only by themselves.',
  'by hand': 'This address was suppressed by hand. Allow it again on its own page first.',
  left: 'A file that was brought says that they left. They come back only by themselves.',
};

/**
 * Adds one person by hand: they are asked by a confirmation letter, or read at once where the member vouches and says where and when they agreed. Throws
 * "invalid" for what is no address, and "conflict" for who is on the list already, left it, or may not be written to.
 */
export async function addPerson(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  raw: unknown,
): Promise<{ id: string }> {
  const { address: typed, firstName, listId, how, said } = check(schema, raw);
  const agreement = check(agreementSchema, { how, said });
  const address = parseAddress(typed);
  if (!address)
    throw new Fault('invalid', 'This does not look like an email address.', {
      address: 'This does not look like an email address.',
    });
  return inTransaction(ctx.db, async (trx) => {
    const barred = (await suppressedAmong(ctx, trx, newsletter.id, [address.key])).get(address.key);
    if (barred) throw new Fault('conflict', SUPPRESSED[barred], { address: SUPPRESSED[barred] });
    const name = firstName || null;
    const { id } = await trx
      .insertInto('readers')
      .values({
        id: newId(),
        newsletter_id: newsletter.id,
        address: address.full,
        address_key: address.key,
        first_name: name,
        name_key: name && folded(name),
        source_name: 'by hand',
        created_at: ctx.clock.now(),
      })
      .onConflict((c) =>
        c.columns(['newsletter_id', 'address_key']).doUpdateSet((eb) => ({ address_key: eb.ref('excluded.address_key') })),
      )
      .returning('id')
      .executeTakeFirstOrThrow();
    const added = await addToList(ctx, trx, newsletter, [id], { listId, agreement, by: { actor: 'member', name: person.name } });
    if (added.length === 0)
      throw new Fault(
        'conflict',
        'They are on this list already, or left it themselves. Whoever left comes back only by their own act.',
        {
          address: 'On this list already, or left it themselves.',
        },
      );
    return { id };
  });
}
