import { auth } from '@/server/auth/session';

const handle = async (request: Request): Promise<Response> => (await auth()).handler(request);

export { handle as GET, handle as POST };
