import { says, type Problem } from './api'
import { changes } from './changes.svelte'

/** Something fetched, and fetched again after each change. Call it while a component is made. */
export function loaded<T>(fetch: () => Promise<T>): { value: T | null; problem: Problem | null } {
  const state = $state<{ value: T | null; problem: Problem | null }>({ value: null, problem: null })
  $effect(() => {
    void changes.count
    fetch()
      .then((value) => {
        state.value = value
        state.problem = null
      })
      .catch((error) => (state.problem = says(error)))
  })
  return state
}
