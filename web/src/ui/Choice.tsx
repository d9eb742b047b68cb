import {
  Combobox,
  ComboboxButton,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Listbox,
  ListboxButton,
  ListboxOption,
  ListboxOptions,
} from '@headlessui/react'
import { useState } from 'react'

type Option<T> = { value: T; label: string; note?: string }

/** One of a list. */
export function Choice<T extends string | number>(props: {
  label: string
  value: T
  options: Option<T>[]
  choose: (value: T) => void
}) {
  const current = props.options.find((option) => option.value === props.value)
  return (
    <Listbox value={props.value} onChange={props.choose}>
      <ListboxButton
        aria-label={props.label}
        className="figures flex w-full justify-between gap-2 rounded-[3px] border border-rule bg-white px-2 py-1 text-left"
      >
        <span className="truncate">{current?.label ?? String(props.value)}</span>
        <span aria-hidden="true" className="text-soft">
          ▾
        </span>
      </ListboxButton>
      <ListboxOptions
        anchor="bottom start"
        className="z-30 max-h-80 min-w-(--button-width) overflow-auto rounded-[3px] border border-ink bg-white py-1 shadow-lg focus:outline-none"
      >
        {props.options.map((option) => (
          <ListboxOption
            key={String(option.value)}
            value={option.value}
            className="figures flex justify-between gap-4 px-2 py-0.5 data-focus:bg-rail data-selected:font-medium"
          >
            <span>{option.label}</span>
            {option.note && <span className="text-soft">{option.note}</span>}
          </ListboxOption>
        ))}
      </ListboxOptions>
    </Listbox>
  )
}

/** One of a long list: what is typed narrows it, each word for itself. */
export function LongChoice(props: {
  label: string
  value: string
  options: Option<string>[]
  choose: (value: string) => void
}) {
  const [text, setText] = useState('')
  const words = text.toLowerCase().split(/\s+/)
  const shown = props.options.filter((option) =>
    words.every((word) => `${option.label} ${option.note ?? ''}`.toLowerCase().includes(word)),
  )
  return (
    <Combobox
      immediate
      value={props.value}
      onChange={(value) => value !== null && props.choose(value)}
      onClose={() => setText('')}
    >
      <div className="relative">
        <ComboboxInput
          aria-label={props.label}
          className="figures w-full rounded-[3px] border border-rule bg-white py-1 pl-2 pr-6"
          displayValue={(value: string) =>
            props.options.find((option) => option.value === value)?.label ?? value
          }
          onChange={(event) => setText(event.target.value)}
          onFocus={(event) => event.target.select()}
        />
        <ComboboxButton
          aria-label={`All of ${props.label.toLowerCase()}`}
          className="absolute inset-y-0 right-0 px-2 text-soft"
        >
          ▾
        </ComboboxButton>
      </div>
      <ComboboxOptions
        anchor="bottom start"
        className="z-30 max-h-80 w-(--input-width) min-w-64 overflow-auto rounded-[3px] border border-ink bg-white py-1 shadow-lg empty:hidden focus:outline-none"
      >
        {shown.map((option) => (
          <ComboboxOption
            key={option.value}
            value={option.value}
            className="figures flex justify-between gap-4 px-2 py-0.5 data-focus:bg-rail data-selected:font-medium"
          >
            <span>{option.label}</span>
            {option.note && <span className="text-soft">{option.note}</span>}
          </ComboboxOption>
        ))}
      </ComboboxOptions>
    </Combobox>
  )
}

/** A few choices side by side. */
export function Segments<T extends string | number>(props: {
  label: string
  value: T
  options: Option<T>[]
  choose: (value: T) => void
}) {
  return (
    <div role="radiogroup" aria-label={props.label} className="flex flex-wrap gap-1">
      {props.options.map((option) => (
        <button
          key={String(option.value)}
          type="button"
          role="radio"
          aria-checked={option.value === props.value}
          className={`knob !px-2 text-[12.5px] ${option.value === props.value ? 'knob-on' : ''}`}
          onClick={() => option.value !== props.value && props.choose(option.value)}
        >
          {option.label}
        </button>
      ))}
    </div>
  )
}
