import type { Context } from '../context';
import type { MarkBook } from '../delivery/marks';
import { FormBook } from '../forms/counts';
import { SignUps } from '../forms/sign-ups';
import { choicesPage, movePage, ownPage, stayPage } from './choice-routes';
import { allowPost, formScript, noteForm, plainScript, sendForm, showForm } from './form-routes';
import { hubPage } from './hub-route';
import { picture, saying } from './page';
import { pickingPage } from './pick-route';
import { confirmPage, followLink, giftPage, leavePage, openPixel } from './reader-routes';
import type { PublicPaths } from './request';
import { runwayCalendar } from './runway-route';
import { seePage } from './see-route';

/**
 * All hot public paths as one plain function from request to answer. Next mounts it at /e (`overFetch`), and the edge process mounts the
 * same on a bare listener.
 */
export function publicRoutes(ctx: Context, marks: MarkBook, book: FormBook = new FormBook(ctx)): PublicPaths {
  const signUps = new SignUps(ctx);
  return async (request) => {
    const [, , kind, id = '', more = ''] = request.url.pathname.split('/');
    const reads = request.method === 'GET' || request.method === 'HEAD';
    if (kind === 'form') {
      if (request.method === 'OPTIONS') return allowPost();
      if (request.method === 'POST')
        return more === 'note' ? noteForm(signUps, request, id, book) : sendForm(ctx, signUps, request, id);
      if (reads)
        return id.endsWith('.js')
          ? formScript(ctx, signUps, request, id.slice(0, -3))
          : showForm(ctx, signUps, request, id, book);
    }
    if ((kind === 'site.js' || kind === 'frame.js') && reads) return plainScript(kind === 'site.js' ? 'site' : 'frame');
    if (kind === 'pick' && reads) return pickingPage(ctx, request.url.searchParams);
    if (kind === 'gift' && reads) return giftPage(ctx, id);
    if (kind === 'o' && reads) return openPixel(ctx, request, id.replace(/\.gif$/, ''), marks);
    if (kind === 'c' && reads) return followLink(ctx, request, id, more, marks);
    if (kind === 'confirm' && (reads || request.method === 'POST')) return confirmPage(ctx, request, id);
    if (kind === 'leave' && (reads || request.method === 'POST')) return leavePage(ctx, request, id);
    if (kind === 'choices' && (reads || request.method === 'POST')) return choicesPage(ctx, request, id);
    if (kind === 'see' && reads) return seePage(ctx, id);
    if (kind === 'runway' && reads) return runwayCalendar(ctx, id);
    if (kind === 'stay' && (reads || request.method === 'POST')) return stayPage(ctx, request, id);
    if (kind === 'own' && (reads || request.method === 'POST')) return ownPage(ctx, request, id, more);
    if (kind === 'move' && (reads || request.method === 'POST')) return movePage(ctx, request, id);
    if (kind === 'hub' && (reads || request.method === 'POST')) return hubPage(ctx, request, id);
    if (kind === 'media' && reads) return picture(ctx, id.replace(/\.(png|jpg)$/, ''));
    return saying('Not found', 'There is nothing here', 'Perhaps a part of the address is missing.', 404);
  };
}
