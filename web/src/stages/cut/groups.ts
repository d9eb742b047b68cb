import type { Operation, Setup } from '../../api/client'
import { freeNumber } from '../../ui/free'

/** Whether an operation is cut: neither it nor its group is switched off. */
export const isOn = (setup: Setup, operation: Operation) =>
  !operation.off && !setup.groups.some((group) => group.id === operation.group && group.off)

/** Put an operation into a group of its setup, '' for none, '+' for a new one. */
export function regroup(setup: Setup, operation: Operation, group: string) {
  if (group === '+') {
    const number = freeNumber((n) =>
      setup.groups.some((one) => one.id === `group-${n}` || one.name === `Group ${n}`),
    )
    operation.group = `group-${number}`
    setup.groups.push({
      id: `group-${number}`,
      name: `Group ${number}`,
      finish: null,
      offset_register: null,
      off: false,
    })
  } else operation.group = group || null
  dropEmpty(setup)
}

/** A group nobody is in any more goes. */
export function dropEmpty(setup: Setup) {
  setup.groups = setup.groups.filter((one) => setup.operations.some((own) => own.group === one.id))
}
