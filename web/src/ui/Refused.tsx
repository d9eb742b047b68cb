import type { Problem } from '../api/client'
import { sentence } from './Field'

/** What was refused, where it was asked for; where: it does not belong to one field and says its place. */
export const Refused = ({ problem, where }: { problem: Problem | null | undefined; where?: boolean }) =>
  problem && (
    <p role="alert" className="mt-1 text-[12.5px] text-trouble">
      {where && `${problem.where}: `}
      {sentence(problem)}
    </p>
  )
