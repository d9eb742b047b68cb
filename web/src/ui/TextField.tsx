import { useId, useRef, useState } from 'react'
import { type Problem } from '../api/client'
import { sentence } from './Field'

/** A text that is kept when the field is left or Enter is pressed. What is refused stays as typed, with the reason. */
export function TextField(props: {
  label: string
  value: string
  placeholder?: string
  commit: (value: string) => Promise<Problem | null>
}) {
  const id = useId()
  const [typed, setTyped] = useState<string | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const sending = useRef<string | null>(null)
  const done = async () => {
    // Enter, and then the field is left: once.
    if (typed === null || typed === sending.current) return
    if (typed.trim() === props.value) {
      setTyped(null)
      setProblem(null)
      return
    }
    sending.current = typed
    const refused = await props.commit(typed.trim())
    if (sending.current === typed) sending.current = null
    setProblem(refused)
    // What was typed since stays.
    if (!refused) setTyped((now) => (now === typed ? null : now))
  }
  return (
    <div>
      <input
        aria-label={props.label}
        aria-invalid={!!problem}
        aria-describedby={problem ? id : undefined}
        className={`figures w-full border bg-white px-1.5 py-0.5 ${problem ? 'border-trouble' : 'border-rule'}`}
        placeholder={props.placeholder}
        value={typed ?? props.value}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={() => void done()}
        onKeyDown={(event) => {
          if (event.key === 'Enter') void done()
          if (event.key === 'Escape') {
            setTyped(null)
            setProblem(null)
          }
          event.stopPropagation()
        }}
      />
      {problem && (
        <p id={id} role="alert" className="mt-1 text-[12.5px] text-trouble">
          {sentence(problem)}
        </p>
      )}
    </div>
  )
}
