import { useState } from 'react'

/** A line of text; leaving the field commits what was changed. */
export function TextField(props: {
  label: string
  value: string
  placeholder?: string
  commit: (value: string) => void
}) {
  const [typed, setTyped] = useState<string | null>(null)
  return (
    <input
      aria-label={props.label}
      className="figures w-full border border-rule bg-white px-1.5 py-0.5"
      placeholder={props.placeholder}
      value={typed ?? props.value}
      onChange={(event) => setTyped(event.target.value)}
      onBlur={() => {
        if (typed !== null && typed.trim() !== props.value) props.commit(typed.trim())
        setTyped(null)
      }}
    />
  )
}
