/*
 * A process that takes any mail and throws it away: the other side of the sending measurement, so that both contenders meet the same
 * and the receiver's work stands outside the measured process. It counts messages, their bytes and how many came twice (by Message-ID), and
 * reports them when asked to (IPC).
 */
import { createServer } from 'node:net';

let messages = 0;
let bytes = 0;
let seen = new Set<string>();
let doubles = 0;
const END = Buffer.from('\r\n.\r\n');
const ID = Buffer.from('\nMessage-ID: ');

const server = createServer((socket) => {
  let inData = false;
  let pending = '';
  let tail: Buffer = Buffer.alloc(0);
  let id = '';
  socket.setNoDelay(true);
  socket.on('error', () => socket.destroy());
  socket.write('220 sink.test\r\n');
  socket.on('data', (chunk: Buffer) => {
    if (inData) {
      bytes += chunk.length;
      if (!id) {
        const at = chunk.indexOf(ID);
        if (at !== -1) id = chunk.toString('latin1', at + ID.length, at + ID.length + 36);
      }
      // Whoever sends waits for our answer, so a mail always ends with the chunk that ends it.
      tail = chunk.length >= END.length ? chunk.subarray(-END.length) : Buffer.concat([tail, chunk]).subarray(-END.length);
      if (!tail.equals(END)) return;
      messages += 1;
      if (seen.has(id)) doubles += 1;
      seen.add(id);
      id = '';
      inData = false;
      tail = Buffer.alloc(0);
      socket.write('250 2.0.0 Taken\r\n');
      return;
    }
    pending += chunk.toString('latin1');
    let said = '';
    for (let at = pending.indexOf('\r\n'); at !== -1; at = pending.indexOf('\r\n')) {
      const line = pending.slice(0, at).toUpperCase();
      pending = pending.slice(at + 2);
      if (line.startsWith('EHLO')) said += '250-sink.test\r\n250-8BITMIME\r\n250-PIPELINING\r\n250 ENHANCEDSTATUSCODES\r\n';
      else if (line === 'DATA') {
        inData = true;
        said += '354 Go on\r\n';
      } else if (line === 'QUIT') {
        socket.end('221 Bye\r\n');
        return;
      } else said += '250 2.1.0 Fine\r\n';
    }
    if (said) socket.write(said);
  });
});
// On all of loopback, so that routes with addresses of their own can be told apart.
server.listen(0, '0.0.0.0', () => process.send?.({ port: (server.address() as { port: number }).port }));
process.on('message', (what) => {
  process.send?.({ messages, bytes, doubles });
  if (what === 'count') return;
  messages = 0;
  bytes = 0;
  doubles = 0;
  seen = new Set();
});
