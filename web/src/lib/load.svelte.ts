import { says, type Problem } from './api'
import { changes } from './changes.svelte'
import { place } from './place.svelte'

/**
 * Fetches something while a component is made, and again when what it depends on or the
 * model changes. An answer that comes after a newer question was asked is dropped, and
 * its request cancelled.
 */
export function fetched<T>(
  fetch: (signal: AbortSignal) => Promise<T> | null,
  took: (value: T) => void,
  failed: (problem: Problem) => void,
) {
  $effect(() => {
    void changes.count
    void place.moment.draft
    void place.moment.at
    const asked = new AbortController()
    fetch(asked.signal)
      ?.then((value) => {
        if (!asked.signal.aborted) took(value)
      })
      .catch((error) => {
        if (!asked.signal.aborted) failed(says(error))
      })
    return () => asked.abort()
  })
}

/** Something fetched: its value, which stays while it is fetched again, or what went wrong. */
export function loaded<T>(fetch: (signal: AbortSignal) => Promise<T>): { value: T | null; problem: Problem | null } {
  const state = $state<{ value: T | null; problem: Problem | null }>({ value: null, problem: null })
  fetched(
    fetch,
    (value) => {
      state.value = value
      state.problem = null
    },
    (problem) => (state.problem = problem),
  )
  return state
}
