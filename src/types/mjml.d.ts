declare module 'mjml' {
  type Result = { html: string; errors: { formattedMessage: string }[] };
  export default function mjml2html(
    source: string,
    options?: { validationLevel?: 'strict' | 'soft' | 'skip'; keepComments?: boolean; beautify?: boolean },
  ): Promise<Result>;
}
