/**
 * What a link within the console hands on to a host's page so that a shell opens there at once. It can't come from outside: an address
 * alone opens nothing.
 */
export const openAtOnce = { shell: true };

export const asksForShell = (state: unknown): boolean => (state as typeof openAtOnce | null)?.shell === true;
