/**
 * Days and times are those of UTC everywhere: what is chosen, what is sent, what is shown and what the audit log has
 * are one and the same, wherever the console is looked at.
 */

/** The moment at which a grant that holds until a day ends: as that day begins. Empty stays undefined. */
export function endOf(day: string): string | undefined {
  return day ? `${day}T00:00:00Z` : undefined
}

/** The day of a moment, as in 2027-01-31. */
export function dayOf(at?: string | null): string {
  return at ? new Date(at).toISOString().slice(0, 10) : ''
}

/** A moment to the second, with its zone, as in 2027-01-31 08:15:00 UTC. */
export function momentOf(at?: string | null): string {
  return at ? `${new Date(at).toISOString().slice(0, 19).replace('T', ' ')} UTC` : ''
}

/** A moment to the minute, without its year, for narrow columns. */
export function shortMomentOf(at?: string | null): string {
  return at ? `${new Date(at).toISOString().slice(5, 16).replace('T', ' ')} UTC` : ''
}
