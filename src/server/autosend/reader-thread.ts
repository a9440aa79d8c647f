/*
 * A thread that reads feed documents, and articles of pages, one after the other. It is bundled into dist/ and run from there, so that the time and the memory a
 * document may cost have an end whatever it is made of.
 */
import { parentPort } from 'node:worker_threads';
import { readFeedDocument } from '@/core/autosend/feed';
import { decodeText } from '@/core/charset';
import { asFault } from '@/core/faults';
import type { ThreadAnswer } from '../threads';
import type { ReaderTask } from './feeds';

const say = (answer: ThreadAnswer) => parentPort!.postMessage(answer);

parentPort!.on('message', async ({ what, bytes, contentType, url, zone, whole }: ReaderTask) => {
  try {
    if (what === 'article') {
      // Needed by feeds alone that have no whole text.
      const { readArticle } = await import('@/core/autosend/article');
      say({ made: JSON.stringify(readArticle(decodeText(bytes, contentType), url)) });
    } else say({ made: JSON.stringify(readFeedDocument(bytes, contentType, url, zone, whole)) });
  } catch (error) {
    const { code, sentence } = asFault(error);
    say({ fault: { code, sentence } });
  }
});
