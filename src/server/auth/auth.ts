import { betterAuth } from 'better-auth';
import type pg from 'pg';
import type { Notice } from '@/core/writing/notice';
import type { Context } from '../context';
import { post } from '../mail/post';

/** Said before a password is typed, and checked after. */
export const PASSWORD_RULE = {
  min: 10,
  max: 128,
  sentence: 'At least 10 characters. A few words in a row are easier to keep than a code.',
};

const COLOUR = '#17645c';

/**
 * Accounts: confirmed address, sessions that can be revoked, password reset, rate limits in the database. Mails go through
 * the outbox, so that they are as durable as the account they belong to.
 */
export function openAuth(ctx: Context, pool: pg.Pool) {
  const mail = async (to: string, heading: string, paragraphs: string[], link: { label: string; url: string }): Promise<void> => {
    const footer = [
      `You get this because this address was typed at ${new URL(ctx.config.webOrigin).host}. If it was not you, do nothing.`,
    ];
    const notice: Notice = { name: 'Inkset', colour: COLOUR, heading, paragraphs, link, footer };
    await post(ctx, ctx.db, { newsletterId: null, kind: 'account', to, subject: heading, notice });
  };
  return betterAuth({
    appName: 'Inkset',
    database: pool,
    baseURL: ctx.config.webOrigin,
    trustedOrigins: [ctx.config.webOrigin],
    secret: ctx.config.secret,
    telemetry: { enabled: false },
    logger: { log: (level, message) => ctx.log[level]({ area: 'accounts' }, message) },
    advanced: { cookiePrefix: 'inkset', ipAddress: { ipAddressHeaders: ['x-forwarded-for'] } },
    rateLimit: { enabled: true, storage: 'database', window: 60, max: 100 },
    emailAndPassword: {
      enabled: true,
      requireEmailVerification: true,
      minPasswordLength: PASSWORD_RULE.min,
      maxPasswordLength: PASSWORD_RULE.max,
      revokeSessionsOnPasswordReset: true,
      sendResetPassword: ({ user, url }) =>
        mail(
          user.email,
          'Choose a new password',
          ['Somebody, we hope you, asked for a new password. The link works for one hour.'],
          {
            label: 'Choose a new password',
            url,
          },
        ),
    },
    emailVerification: {
      sendOnSignUp: true,
      sendOnSignIn: true,
      autoSignInAfterVerification: true,
      sendVerificationEmail: ({ user, url }) =>
        mail(user.email, 'Confirm your address', ['One click, and your account is yours. The link works for one hour.'], {
          label: 'Confirm my address',
          url,
        }),
    },
  });
}

export type Auth = ReturnType<typeof openAuth>;
