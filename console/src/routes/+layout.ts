// A single page: the service has no other renderer than the browser.
export const ssr = false;
export const prerender = false;
