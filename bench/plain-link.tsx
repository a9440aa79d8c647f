import type { AnchorHTMLAttributes } from 'react';

/** A link without the framework around it. */
export default function Link(props: AnchorHTMLAttributes<HTMLAnchorElement>) {
  return <a {...props}>{props.children}</a>;
}
