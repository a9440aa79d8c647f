import { mountedRoutes } from '@/server/public/mounted';

const handle = async (request: Request): Promise<Response> => (await mountedRoutes())(request);

export { handle as GET, handle as HEAD, handle as OPTIONS, handle as POST };
