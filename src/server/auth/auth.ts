import { betterAuth } from 'better-auth';
import { APIError, createAuthMiddleware, createEmailVerificationToken } from 'better-auth/api';
import { sql } from 'kysely';
import type pg from 'pg';
import { together } from '@/core/growth/figures';
import type { Notice } from '@/core/writing/notice';
import type { Context } from '../context';
import { mayMailTo, within } from '../limits';
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
    // Said to nobody: the answer is the same whether there is such an account or not.
    if (!(await mayMailTo(ctx, to)))
      return ctx.log.warn({ area: 'accounts' }, 'a mailbox was sent enough; one mail more was not');
    const notice: Notice = { name: 'Inkset', colour: COLOUR, heading, paragraphs, link, footer };
    await post(ctx, ctx.db, { newsletterId: null, kind: 'account', to, subject: heading, notice });
  };
  const verifyUrl = (token: string, step = '') =>
    `${ctx.config.webOrigin}/verify?token=${encodeURIComponent(token)}${step && `&step=${step}`}`;
  const confirmation = (user: { email: string }, token: string) =>
    kindOf(token) === 'change-email-verification'
      ? mail(
          user.email,
          'Your new address',
          ['One click, and this is the address of your Inkset account. The link works for one hour.'],
          { label: 'Use this address', url: verifyUrl(token, 'new') },
        )
      : mail(user.email, 'Confirm your address', ['One click, and your account is yours. The link works for one hour.'], {
          label: 'Confirm my address',
          url: verifyUrl(token),
        });
  return betterAuth({
    appName: 'Inkset',
    database: pool,
    baseURL: ctx.config.webOrigin,
    trustedOrigins: [ctx.config.webOrigin],
    secret: ctx.config.secret,
    telemetry: { enabled: false },
    logger: { log: (level, message) => ctx.log[level]({ area: 'accounts' }, message) },
    verification: { storeIdentifier: 'hashed' },
    hooks: { before: createAuthMiddleware((request) => guard(ctx, request)) },
    advanced: { cookiePrefix: 'inkset', ipAddress: { ipAddressHeaders: ['x-forwarded-for'] } },
    rateLimit: { enabled: true, storage: 'database', window: 60, max: 100 },
    emailAndPassword: {
      enabled: true,
      requireEmailVerification: true,
      minPasswordLength: PASSWORD_RULE.min,
      maxPasswordLength: PASSWORD_RULE.max,
      revokeSessionsOnPasswordReset: true,
      // The page answers the same whoever asks; who owns the address learns from the mail what is so.
      onExistingUserSignUp: async ({ user }) =>
        user.emailVerified
          ? mail(
              user.email,
              'You have an account already',
              [
                'Somebody, we hope you, wanted to open an account with this address. There is one already, and nothing of it was changed.',
                'Sign in with its password. If you do not know it any more, choose a new one on that page.',
              ],
              { label: 'Sign in', url: `${ctx.config.webOrigin}/sign-in` },
            )
          : confirmation(
              user,
              await createEmailVerificationToken(ctx.config.secret, user.email, undefined, undefined, { userId: user.id }),
            ),
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
    user: {
      changeEmail: {
        enabled: true,
        // Both are asked: whoever sits at an open desk takes no account away.
        sendChangeEmailConfirmation: ({ user, newEmail, token }) =>
          mail(
            user.email,
            'Another address for your account',
            [
              `Your account is to have the address ${newEmail}. If that is right, click below; that address is asked next, and until then nothing changes.`,
              'If it was not you, do nothing, and choose a new password.',
            ],
            { label: 'Yes, change it', url: verifyUrl(token, 'old') },
          ),
      },
      deleteUser: { enabled: true, beforeDelete: (user) => refuseOwners(ctx, user.id) },
    },
    emailVerification: {
      sendOnSignUp: true,
      sendOnSignIn: true,
      autoSignInAfterVerification: true,
      sendVerificationEmail: ({ user, token }) => confirmation(user, token),
    },
  });
}

/** What a token of the account library is for, as it says itself; whoever believes it has verified it first. */
function kindOf(token: string): unknown {
  try {
    return (JSON.parse(Buffer.from(token.split('.')[1] ?? '', 'base64url').toString()) as { requestType?: unknown }).requestType;
  } catch {
    return undefined;
  }
}

/** An account is not closed while a newsletter would be left without an owner. */
async function refuseOwners(ctx: Context, userId: string): Promise<void> {
  const { rows } = await sql<{ name: string }>`
    select n.name from newsletters n join members m on m.newsletter_id = n.id where m.user_id = ${userId} and m.role = 'owner'
      and not exists (select 1 from members o where o.newsletter_id = n.id and o.role = 'owner' and o.user_id <> ${userId}) order by n.name`.execute(
    ctx.db,
  );
  if (rows.length)
    throw new APIError('CONFLICT', {
      code: 'OWNS_NEWSLETTERS',
      message: `You are the only owner of ${together(rows.map((row) => row.name))}. Delete it, or make somebody else an owner, first.`,
    });
}

const MOST_NAME = 80;
const TRIES = { most: 10, seconds: 900 };

/**
 * Brakes for each account, beside those for each network: whoever guesses from many networks guesses slowly. And no account is opened by whom
 * nobody invited, where that is so.
 */
async function guard(
  ctx: Context,
  { path, body }: { path?: string; body?: { email?: unknown; name?: unknown; password?: unknown } },
): Promise<void> {
  // An open desk alone closes no account.
  if (path === '/delete-user' && !body?.password)
    throw new APIError('BAD_REQUEST', { code: 'INVALID_PASSWORD', message: 'The password is needed for this.' });
  if (typeof body?.name === 'string' && (body.name.length > MOST_NAME || /[\u0000-\u001f]/.test(body.name)))
    throw new APIError('BAD_REQUEST', {
      code: 'NAME_TOO_LONG',
      message: `A name has at most ${MOST_NAME} characters, on one line.`,
    });
  const email = typeof body?.email === 'string' ? body.email.trim().toLowerCase() : null;
  if (path === '/sign-up/email' && !(await mayOpenAccount(ctx, email)))
    throw new APIError('FORBIDDEN', { code: 'SIGN_UP_CLOSED', message: 'Accounts are opened by invitation here.' });
  if (path === '/sign-in/email' && email && !(await within(ctx, `sign-in:${email}`, TRIES.most, TRIES.seconds)))
    throw new APIError('TOO_MANY_REQUESTS', {
      code: 'TOO_MANY',
      message: 'This account was tried very often. Wait a quarter of an hour.',
    });
}

/** May a further account be opened with this address? Outside the demo only the first one may, and whoever is invited. */
export async function mayOpenAccount(ctx: Context, email: string | null): Promise<boolean> {
  if (ctx.config.signUp === 'open') return true;
  const { rows } = await sql<{ closed: boolean; invited: boolean }>`
    select exists (select 1 from "user" where "emailVerified") as closed,
      exists (select 1 from invitations where lower(email) = ${email?.trim().toLowerCase() ?? ''} and expires_at > ${ctx.clock.now()}) as invited`.execute(
    ctx.db,
  );
  return !rows[0]!.closed || rows[0]!.invited;
}

export type Auth = ReturnType<typeof openAuth>;
