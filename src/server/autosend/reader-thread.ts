/*
 * A thread that reads one feed document, or the article of one page, and ends. It is bundled into dist/ and run from there, so that the time and the memory a
 * document may cost have an end whatever it is made of.
 */
import { parentPort, workerData } from 'node:worker_threads';
import { readFeedDocument } from '@/core/autosend/feed';
import { decodeText } from '@/core/charset';
import { asFault } from '@/core/faults';
import type { ReaderTask } from './feeds';

const { what, bytes, contentType, url, zone } = workerData as ReaderTask;
try {
  if (what === 'article') {
    // Fetched by feeds alone that have no whole text.
    const { readArticle } = await import('@/core/autosend/article');
    parentPort!.postMessage({ read: { document: readArticle(decodeText(bytes, contentType), url) } });
  } else parentPort!.postMessage({ read: readFeedDocument(bytes, contentType, url, zone) });
} catch (error) {
  const { code, sentence } = asFault(error);
  parentPort!.postMessage({ fault: { code, sentence } });
}
