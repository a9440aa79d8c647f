/*
 * A process that takes any mail and throws it away: the other side of the sending measurement, so that both contenders meet the same
 * and the receiver's work stands outside the measured process. It counts messages and their bytes and reports them when asked to (IPC).
 */
import { createServer } from 'node:net';

let messages = 0;
let bytes = 0;
const END = Buffer.from('\r\n.\r\n');

const server = createServer((socket) => {
  let inData = false;
  let pending = '';
  let tail: Buffer = Buffer.alloc(0);
  socket.setNoDelay(true);
  socket.on('error', () => socket.destroy());
  socket.write('220 sink.test\r\n');
  socket.on('data', (chunk: Buffer) => {
    let data = chunk;
    while (data.length) {
      if (inData) {
        const joined = tail.length ? Buffer.concat([tail, data]) : data;
        const end = joined.indexOf(END);
        if (end === -1) {
          bytes += data.length;
          tail = joined.subarray(Math.max(0, joined.length - END.length + 1));
          return;
        }
        messages += 1;
        inData = false;
        bytes += end + END.length - tail.length;
        data = joined.subarray(end + END.length);
        tail = Buffer.alloc(0);
        socket.write('250 2.0.0 Taken\r\n');
        continue;
      }
      pending += data.toString('latin1');
      const newline = pending.indexOf('\r\n');
      if (newline === -1) return;
      const line = pending.slice(0, newline).toUpperCase();
      data = Buffer.from(pending.slice(newline + 2), 'latin1');
      pending = '';
      if (line.startsWith('EHLO')) socket.write('250-sink.test\r\n250-8BITMIME\r\n250-PIPELINING\r\n250 ENHANCEDSTATUSCODES\r\n');
      else if (line === 'DATA') {
        inData = true;
        socket.write('354 Go on\r\n');
      } else if (line === 'QUIT') socket.end('221 Bye\r\n');
      else socket.write('250 2.1.0 Fine\r\n');
    }
  });
});
server.listen(0, '127.0.0.1', () => process.send?.({ port: (server.address() as { port: number }).port }));
process.on('message', () => {
  process.send?.({ messages, bytes });
  messages = 0;
  bytes = 0;
});
