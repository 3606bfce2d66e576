// SvelteKit 3 asks for Node 22, and uses just this of it when it builds a static page. Debian and many
// workplaces still have Node 20. Where it is there already, nothing happens.
Promise.withResolvers ??= () => {
  /** @type {any} */
  const parts = {};
  parts.promise = new Promise((resolve, reject) => Object.assign(parts, { resolve, reject }));
  return parts;
};
