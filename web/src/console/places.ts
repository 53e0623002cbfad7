import { admit } from "./admit/place";
import { compose } from "./compose/place";
import { house } from "./house/place";
import { observe } from "./observe/place";
import type { Place } from "./place";
import { settle } from "./settle/place";

/** The places of the course bar, in their order; keys 1 to 4 lead there. */
export const PLACES: Place[] = [compose, admit, observe, settle];

/** Every place that has routes. */
export const ALL_PLACES: Place[] = [...PLACES, house];

/** The first page of a place. */
export const firstPage = (place: Place): string => place.pages[0]?.to ?? "/";
