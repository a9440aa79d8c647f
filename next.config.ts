import type { NextConfig } from 'next';

const config: NextConfig = {
  poweredByHeader: false,
  // These load files of their own at run time (templates, native parts), which a bundler would lose.
  serverExternalPackages: ['pg', 'graphile-worker', 'pino', 'mjml', 'html-to-text', 'sanitize-html', 'better-auth', 'undici', 'nodemailer'],
  experimental: { serverActions: { bodySizeLimit: '2mb' } },
};

export default config;
