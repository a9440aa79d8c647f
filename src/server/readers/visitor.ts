/** Who asks: as the request says. Kept with the consent. */
export type Visitor = { network: string; agent: string };
