const ENTITIES: Record<string, string> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;', "'": '&#39;' };
export const esc = (text: string): string => text.replace(/[&<>"']/g, (c) => ENTITIES[c] ?? c);

const CSS = `*{box-sizing:border-box}body{margin:0;padding:14px;background:#ededed;color:#222;font:15px/1.5 system-ui,sans-serif}
.world{max-width:1000px;margin:0 auto;background:#f7f7f7;border:2px dashed #888;padding:16px 20px 28px;min-height:80vh}
.mark{font-size:13px;color:#555;border-bottom:1px dashed #aaa;padding-bottom:8px;margin-bottom:16px;display:flex;gap:16px;flex-wrap:wrap}.mark b{letter-spacing:.04em}
a{color:#333}h1{font-size:22px;margin:0 0 12px}h2{font-size:17px;margin:22px 0 8px}table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:6px 8px;border-bottom:1px solid #ddd;vertical-align:top}
code,textarea,.mono{font:13px/1.45 ui-monospace,monospace;word-break:break-all}input,textarea,select,button{font:inherit;padding:6px 8px;border:1px solid #888;background:#fff;color:#222;max-width:100%}textarea{width:100%}
button{background:#ddd;cursor:pointer}label{display:block;margin:8px 0}.pass{color:#245b24;font-weight:600}.fail{color:#9a1f1f;font-weight:600}iframe{width:100%;border:1px solid #bbb;background:#fff;height:900px}pre{white-space:pre-wrap;word-break:break-word;background:#fff;border:1px solid #ddd;padding:10px;font-size:12.5px}`;

/** A page of the simulated world: plain and grey, with the word "simulated" on it, never to be mistaken for Inkset. */
export function worldPage(place: string, title: string, body: string, head = ''): string {
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1"><title>${esc(
    title,
  )} (simulated)</title>${head}<style>${CSS}</style></head><body><div class="world"><header class="mark"><b>simulated</b><span>${esc(
    place,
  )} of the Backlot, the outside world that ships with Inkset</span></header><main>${body}</main></div></body></html>`;
}
