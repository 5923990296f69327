/** @jsxImportSource react */
import { useEffect, useId, useRef } from 'react'

/** What is asked before something is done that cannot be taken back. */
export interface ConfirmTexts {
  readonly title?: string
  readonly text?: string
  readonly yes?: string
  readonly no?: string
}

interface Props extends ConfirmTexts {
  onYes(): void
  onNo(): void
}

interface Dialog {
  showModal(): void
  close(): void
}

/** Asks first: the browser's own dialog, which keeps the focus inside, and closes by Escape. */
export function Confirm({
  title = 'Delete this?',
  text = 'It cannot be brought back.',
  yes = 'Delete',
  no = 'Keep it',
  onYes,
  onNo,
}: Props) {
  const dialog = useRef<HTMLDialogElement & Dialog>(null)
  const [heading, body] = [useId(), useId()]
  useEffect(() => {
    const shown = dialog.current
    shown?.showModal()
    return () => shown?.close()
  }, [])
  return (
    <dialog
      ref={dialog}
      role="alertdialog"
      aria-labelledby={heading}
      aria-describedby={body}
      data-pachter="confirm"
      onCancel={(event) => {
        event.preventDefault()
        onNo()
      }}
    >
      <h2 id={heading}>{title}</h2>
      <p id={body}>{text}</p>
      <div data-pachter="answers">
        {/* What changes nothing comes first, and has the focus. */}
        <button type="button" autoFocus onClick={onNo}>
          {no}
        </button>
        <button type="button" data-pachter="yes" onClick={onYes}>
          {yes}
        </button>
      </div>
    </dialog>
  )
}
