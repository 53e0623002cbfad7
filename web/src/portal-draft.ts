/** What the console and the portal that it shows beside a portal's settings say to each other: that a look is being
 * typed, or that the portal is there to be told. */
export const DRAFT = "a portal's look, not kept yet";
