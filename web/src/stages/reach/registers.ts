import type { MachineData, Plan, Setup } from '../../api/client'
import { freeNumber } from '../../ui/free'

/** Registers of a control that may be given out, the first extended ones with them. */
export const registersOf = (machine: MachineData | undefined): string[] =>
  [
    ...(machine?.control.registers ?? []),
    ...Array.from({ length: Math.min(machine?.control.extended ?? 0, 24) }, (_, i) => `G54.1 P${i + 1}`),
  ].filter((name) => !machine?.control.reserved.includes(name))

/** The machine of a setup: the plan's own before a shipped one. */
export const machineOf = (
  plan: { machines: readonly MachineData[] },
  shipped: readonly MachineData[] | undefined,
  id: string,
) => plan.machines.find((one) => one.id === id) ?? shipped?.find((one) => one.id === id)

/** The plan’s own copy of a machine, to be changed; made where there is none, and then those of the setups that were on the shipped one stand on it. */
export function ownMachine(draft: Plan, machine: MachineData, setups: readonly Setup[]): MachineData {
  const there = draft.machines.find((one) => one.id === machine.id)
  if (there) return there
  const number = freeNumber((n) => draft.machines.some((one) => one.id === `${machine.id}-own${n}`))
  const mine = {
    ...structuredClone(machine),
    id: `${machine.id}-own${number}`,
    name: `${machine.name}, ours`,
  }
  draft.machines.push(mine)
  for (const setup of setups) if (setup.machine === machine.id) setup.machine = mine.id
  return mine
}
