import { redirect } from 'next/navigation';
import { newslettersOf } from '@/server/newsletters/newsletters';
import { runtime } from '@/server/runtime';
import { personHere } from './desk';

export default async function Home() {
  const person = await personHere();
  const [first] = await newslettersOf(await runtime(), person.id);
  redirect(first ? `/desk/${first.slug}/today` : '/new');
}
