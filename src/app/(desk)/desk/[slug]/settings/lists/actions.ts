'use server';

import type { ActionResult } from '@/core/faults';
import type { KindChange, Merging } from '@/core/readers/merging';
import { kindChange, mergeLists, mergingOf, changeKind as toKind } from '@/server/keeping/changing';
import {
  archiveList,
  keepList,
  moveList,
  removeField,
  removeList,
  removeTag,
  renameField,
  renameTag,
} from '@/server/keeping/things';
import { onDesk } from '../../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function makeList(slug: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => keepList(ctx, newsletter, null, Object.fromEntries(data)));
}
export async function changeList(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => keepList(ctx, newsletter, id, Object.fromEntries(data)));
}
export async function shiftList(slug: string, id: string, way: 'up' | 'down'): Done {
  return onDesk(slug, (ctx, newsletter) => moveList(ctx, newsletter, id, way));
}
export async function archive(slug: string, id: string, away: boolean): Done {
  return onDesk(slug, (ctx, newsletter) => archiveList(ctx, newsletter, id, away));
}
export async function dropList(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => removeList(ctx, newsletter, id));
}
export async function callTag(slug: string, tag: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => renameTag(ctx, newsletter, tag, data.get('tag')));
}
export async function dropTag(slug: string, tag: string): Done {
  return onDesk(slug, (ctx, newsletter) => removeTag(ctx, newsletter, tag));
}
export async function callField(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => renameField(ctx, newsletter, id, data.get('label')));
}
export async function dropField(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => removeField(ctx, newsletter, id, data.get('typed')));
}
/** What would become of everybody, were this list to go into another. */
export async function lookAtMerging(slug: string, id: string, into: string): Promise<ActionResult<Merging>> {
  return onDesk(slug, (ctx, newsletter) => mergingOf(ctx, newsletter, id, into));
}
export async function merge(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter, person) => mergeLists(ctx, newsletter, person, id, Object.fromEntries(data)));
}
/** What would become of a field's answers as another kind. */
export async function lookAtKind(slug: string, id: string, kind: string): Promise<ActionResult<KindChange>> {
  return onDesk(slug, (ctx, newsletter) => kindChange(ctx, newsletter, id, kind));
}
export async function changeKind(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => toKind(ctx, newsletter, id, Object.fromEntries(data)));
}
