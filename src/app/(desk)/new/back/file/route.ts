import { runtime } from '@/server/runtime';
import { beginRestore } from '@/server/transfer/whole-in';
import { personHere } from '../../../../desk';
import { takenIn } from '../../../../uploads';

/** Takes the file of a whole newsletter in as it comes, and answers what would be brought of it. */
export async function POST(request: Request): Promise<Response> {
  const person = await personHere();
  const ctx = await runtime();
  return takenIn(ctx, request, (name, stream) => beginRestore(ctx, person, name, stream));
}
