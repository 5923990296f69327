/** @jsxImportSource react */
import { useQuery } from '@tanstack/react-query'
import { type ComponentType, type ReactNode, useId, useState } from 'react'
import { type Access, forbiddenText } from '../decide/index.js'
import type { AnswerError } from '../client/index.js'
import { changesOf } from './changes.js'
import { Confirm, type ConfirmTexts } from './confirm.js'
import { useQueries } from './cache.js'
import { ALL, type AnyClient, type AnyRecord, type ForReactOptions } from './context.js'
import { keyPath } from '../model/index.js'
import { verdictHere } from './verdict.js'

/** Whether something may be done, for a page. */
export interface May {
  readonly may: boolean
  /** Why not, in words for whoever would like to. */
  readonly reason: string | undefined
}

/** What a button of an action takes. */
export interface ActProps {
  readonly table: string
  /** The record, listed or fetched with `access: true`. */
  readonly record: AnyRecord & { readonly $access?: Access }
  /** `update`, `delete`, or an action of the table's own. */
  readonly action: string
  readonly children: ReactNode
  /** What becomes of the button where the action is refused; left out, it stays, with the reason. */
  readonly refused?: 'disable' | 'hide'
  /** What is asked before it is done; left out, only a delete is asked about. `false` asks nothing. */
  readonly confirm?: ConfirmTexts | false
  /** What is sent along with an action of the table's own. */
  readonly values?: AnyRecord
  /** Does it in another way than by sending it at once, such as by opening a form. */
  readonly onAct?: () => unknown
  /** Called once it is done. */
  readonly onDone?: () => unknown
  /** Called where the server refused it; left out, what it said stands behind the button. */
  readonly onRefused?: (error: AnswerError) => unknown
  /** What is shown as the button; left out, `button`. Whatever else is given, it gets. */
  readonly as?: ComponentType<never> | 'button'
  readonly [more: string]: unknown
}

/** Hooks and components for what may be done. */
export function actComponents(client: AnyClient, { standstill }: ForReactOptions) {
  function useMay(table: string, record: ActProps['record'] | undefined, action: string): May {
    const queries = useQueries(client)
    if (!record) return { may: false, reason: undefined }
    const may = (record.$access?.may as Readonly<Record<string, boolean>> | undefined)?.[action] === true
    const stands = may ? standstill?.() : undefined
    if (stands !== undefined) return { may: false, reason: stands }
    if (may) return { may, reason: undefined }
    const verdict = verdictHere(client, queries, { table, action, record })
    const isTold = verdict?.status === 403 || verdict?.status === 401
    return { may, reason: isTold ? verdict.message : forbiddenText(table, action) }
  }

  function Act(props: ActProps) {
    const {
      table,
      record,
      action,
      children,
      refused = 'disable',
      confirm,
      values,
      onAct,
      onDone,
      onRefused,
      as,
      ...more
    } = props
    const queries = useQueries(client)
    const { may, reason } = useMay(table, record, action)
    const [state, setState] = useState<'idle' | 'asking' | 'sending'>('idle')
    // What was shown as done and is taken back stands there anew, and still has to say why.
    const refusalKey = [...ALL, 'refusal', table, action, keyPath(client.model, table, record)]
    const { data: error } = useQuery<AnswerError | null>({ queryKey: refusalKey, queryFn: () => null, enabled: false })
    const setError = (told: AnswerError | null) => queries.setQueryData(refusalKey, told)
    const id = useId()
    if (!may && refused === 'hide') return null

    const asked = confirm ?? (action === 'delete' && !onAct ? {} : false)
    const send = async () => {
      setState('sending')
      setError(null)
      try {
        const changes = changesOf(client, queries, table)
        if (onAct) await onAct()
        else if (action === 'delete') await changes.delete(record)
        else if (action === 'update') await changes.update(record, values ?? {})
        else await changes.act(action, record, values)
        await onDone?.()
      } catch (cause) {
        const told = cause as AnswerError
        if (onRefused) onRefused(told)
        else setError(told)
      } finally {
        setState('idle')
      }
    }
    const Button = (as ?? 'button') as ComponentType<Readonly<Record<string, unknown>>>
    // It can be come to by keyboard all the same, or nobody could read why.
    const closed = may ? {} : { 'aria-disabled': true, title: reason, 'aria-describedby': id, 'data-disabled': true }
    return (
      <>
        <Button
          type="button"
          {...more}
          {...closed}
          aria-busy={state === 'sending' || undefined}
          onClick={() => {
            if (!may || state !== 'idle') return
            if (asked) setState('asking')
            else void send()
          }}
        >
          {children}
        </Button>
        {!may && (
          <span id={id} hidden>
            {reason}
          </span>
        )}
        {error && (
          <span role="alert" data-pachter="refused">
            {error.message}
          </span>
        )}
        {asked && state === 'asking' && <Confirm {...asked} onNo={() => setState('idle')} onYes={() => void send()} />}
      </>
    )
  }

  return { useMay, Act }
}
