/** Where the pages of this portal begin, as the server says in the page's head: nowhere, by a name of its own. */
export const BEGINS = document.querySelector('meta[name="portal"]')?.getAttribute("content") ?? "/portal";
