import { create } from 'zustand'
import type { Billet, Hold, Problem } from '../api/client'

/** What is on its way into the plan, and what is told of it. */
type Editing = {
  /** The billet with a number that is being typed, drawn and not yet kept. */
  typedBillet: Billet | null
  /** The holding of the chosen setup with a number that is being typed. */
  typedHold: Hold | null
  /** Edits on their way to the server. */
  saving: number
  notice: Problem | null
  keys: boolean
}

export const useEditing = create<Editing>(() => ({
  typedBillet: null,
  typedHold: null,
  saving: 0,
  notice: null,
  keys: false,
}))

export const tell = (notice: Problem | null) => useEditing.setState({ notice })

/** Do an edit; the screen says that it is being saved until what the server answered is shown. */
export async function saving<T>(edit: Promise<T>): Promise<T> {
  const count = (by: number) => useEditing.setState((editing) => ({ saving: editing.saving + by }))
  count(1)
  try {
    return await edit
  } finally {
    // The answer is shown in a task of its own, put off before this one.
    setTimeout(() => count(-1))
  }
}
