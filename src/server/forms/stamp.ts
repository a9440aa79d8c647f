import { isSigned, signText } from '@/core/keys';
import type { Context } from '../context';

/** When a form was made, signed, so that it cannot be backdated. By the machine's time. */
export function stamp(ctx: Pick<Context, 'config'>): string {
  const at = Date.now().toString(36);
  return `${at}.${signText(ctx.config.keys, 'stamp', at)}`;
}

/** Was a form sent in sooner than most people type? A browser that fills it in is as quick, so this alone condemns nobody. A form without a stamp (plain HTML on somebody's page) is not judged by it. */
export function isTooSoon(ctx: Pick<Context, 'config'>, given: string | undefined): boolean {
  const [at = '', ...signature] = (given ?? '').split('.');
  if (!at || !isSigned(ctx.config.keys, 'stamp', at, signature.join('.'))) return false;
  return Date.now() - Number.parseInt(at, 36) < ctx.config.formSeconds * 1000;
}
