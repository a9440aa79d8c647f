/*
 * A thread that reads feed documents, and articles of pages, one after the other. It is bundled into dist/ and run from there, so that the time and the memory a
 * document may cost have an end whatever it is made of.
 */
import { parentPort } from 'node:worker_threads';
import { readFeedDocument } from '@/core/autosend/feed';
import { decodeText } from '@/core/charset';
import { asFault } from '@/core/faults';
import type { ReaderTask } from './feeds';

parentPort!.on('message', async ({ what, bytes, contentType, url, zone, whole }: ReaderTask) => {
  try {
    if (what === 'article') {
      // Needed by feeds alone that have no whole text.
      const { readArticle } = await import('@/core/autosend/article');
      parentPort!.postMessage({ read: { document: readArticle(decodeText(bytes, contentType), url) } });
    } else parentPort!.postMessage({ read: readFeedDocument(bytes, contentType, url, zone, whole) });
  } catch (error) {
    const { code, sentence } = asFault(error);
    parentPort!.postMessage({ fault: { code, sentence } });
  }
});
