import { useEffect, useState } from 'react'
import type { BilletForm, Problem } from '../../api/client'
import { sendFile, useUpload } from '../../api/hooks'
import { Row } from '../../ui/Field'
import { FileInput } from '../../ui/FileInput'
import { Refused } from '../../ui/Refused'

/** Bring in a billet's file; it is taken once it has been read. */
export function FileIn({
  form,
  name,
  take,
}: {
  form: BilletForm
  name: string | null
  take: (file: string, sha256: string) => Promise<void>
}) {
  const [sha256, setSha256] = useState<string | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const { data: upload } = useUpload(sha256)
  useEffect(() => {
    if (upload?.status !== 'ready' || !sha256) return
    setSha256(null)
    if (upload.kind === form.holds) void take(upload.name, upload.sha256)
    else
      setProblem({
        code: 'billet.kind',
        where: upload.name,
        what: `this file holds a ${upload.kind}, not what this kind of billet needs`,
        mend: `choose a file of ${form.reads}`,
      })
  }, [upload, sha256]) // eslint-disable-line react-hooks/exhaustive-deps
  const refused =
    problem ??
    (upload?.status === 'refused' ? upload.problem : null) ??
    (upload?.status === 'choose'
      ? {
          code: 'part.several_solids',
          where: upload.name,
          what: `the file holds ${upload.choices?.length} solids`,
          mend: 'take the one out on the projects page, or export it alone',
        }
      : null)
  return (
    <Row
      label="File"
      below={
        <>
          {upload?.status === 'reading' && <span className="text-soft">reading {upload.name} …</span>}
          <Refused problem={refused} />
        </>
      }
    >
      <label className="knob inline-block cursor-pointer">
        {name ?? 'Choose a file'}
        <FileInput
          label="Billet file"
          accept={form.reads}
          take={async (file) => {
            if (!file) return
            setProblem(null)
            const state = await sendFile(file)
            if ('sha256' in state) setSha256(state.sha256)
            else setProblem(state)
          }}
        />
      </label>
    </Row>
  )
}
