import type { NextConfig } from 'next';

const config: NextConfig = {
  poweredByHeader: false,
  // These load files of their own at run time (templates, native parts), which a bundler would lose.
  serverExternalPackages: [
    'pg',
    'graphile-worker',
    'pino',
    'mjml',
    'html-to-text',
    'sanitize-html',
    'satori',
    'sharp',
    'better-auth',
    'undici',
    'nodemailer',
  ],
  // Types are checked by `./inkset test`; checking them again would double the time of a build.
  typescript: { ignoreBuildErrors: true },
  experimental: { serverActions: { bodySizeLimit: '21mb' } },
};

export default config;
