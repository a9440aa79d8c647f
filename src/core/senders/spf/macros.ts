import ipaddr from 'ipaddr.js';

/** What macros speak of (RFC 7208 section 7.2). `domain` is the record's own domain, `validated` the PTR name for %{p}. */
export type MacroContext = { ip: string; sender: string; helo: string; domain: string; validated?: string };

function letter(name: string, of: MacroContext): string {
  const at = of.sender.lastIndexOf('@');
  const ip = ipaddr.process(of.ip);
  switch (name) {
    case 's':
      return of.sender;
    case 'l':
      return of.sender.slice(0, at);
    case 'o':
      return of.sender.slice(at + 1);
    case 'd':
      return of.domain;
    case 'i':
      // IPv6 addresses as nibbles with dots between (section 7.3).
      return ip.kind() === 'ipv4' ? ip.toString() : [...Buffer.from(ip.toByteArray()).toString('hex')].join('.');
    case 'p':
      return of.validated ?? 'unknown';
    case 'v':
      return ip.kind() === 'ipv4' ? 'in-addr' : 'ip6';
    case 'h':
      return of.helo;
    default:
      return '';
  }
}

/** Expands a domain-spec (RFC 7208 section 7): transformers, reversal, URL escaping of capital letters; cut from the left to 253 characters. */
export function expandMacros(text: string, of: MacroContext): string {
  const out = text.replace(
    /%(?:\{([a-z])(\d*)(r?)([.\-+,/_=]*)\}|([%_-]))/gi,
    (_, name: string, digits: string, reverse: string, delimiters: string, percent: string) => {
      if (percent) return percent === '%' ? '%' : percent === '_' ? ' ' : '%20';
      const value = letter(name.toLowerCase(), of);
      let parts = value.split(delimiters ? new RegExp(`[${delimiters.replace(/[\]\\^-]/g, '\\$&')}]`) : '.');
      if (reverse) parts = parts.reverse();
      if (digits && Number(digits) > 0) parts = parts.slice(-Number(digits));
      const joined = parts.join('.');
      return name === name.toUpperCase() ? encodeURIComponent(joined) : joined;
    },
  );
  let name = out.replace(/\.$/, '');
  while (name.length > 253 && name.includes('.')) name = name.slice(name.indexOf('.') + 1);
  return name;
}
