/*
 * A thread that reads one feed document and ends. It is bundled into dist/ and run from there, so that the time and the memory a document may
 * cost have an end whatever it is made of.
 */
import { parentPort, workerData } from 'node:worker_threads';
import { readFeedDocument } from '@/core/autosend/feed';
import { asFault } from '@/core/faults';

const { bytes, contentType, url, zone } = workerData as {
  bytes: Uint8Array;
  contentType: string | null;
  url: string;
  zone: string;
};
try {
  parentPort!.postMessage({ feed: readFeedDocument(bytes, contentType, url, zone) });
} catch (error) {
  const { code, sentence } = asFault(error);
  parentPort!.postMessage({ fault: { code, sentence } });
}
