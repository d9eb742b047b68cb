import type { StoreApi, UseBoundStore } from 'zustand'
import { useShallow } from 'zustand/react/shallow'

/** Some fields of a store: who names the time is drawn as it goes, and nobody else. */
export const useFields = <S extends object, K extends keyof S>(
  store: UseBoundStore<StoreApi<S>>,
  ...names: K[]
): Pick<S, K> =>
  store(useShallow((held) => Object.fromEntries(names.map((name) => [name, held[name]])) as Pick<S, K>))
