/** The hidden input within a label that takes a file; the same file can be taken again. */
export function FileInput(props: {
  label: string
  accept?: string
  take: (file: File | undefined) => Promise<unknown>
}) {
  return (
    <input
      type="file"
      accept={props.accept}
      aria-label={props.label}
      className="sr-only"
      onChange={(event) => {
        void props.take(event.target.files?.[0])
        event.target.value = ''
      }}
    />
  )
}
