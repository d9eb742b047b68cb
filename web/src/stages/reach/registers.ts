import type { MachineData } from '../../api/client'

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
