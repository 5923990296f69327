import { Alert, Button, Group, Skeleton, Stack, Text } from '@mantine/core'
import type { ReactNode } from 'react'
import type { ListState } from 'pachter/react'

/** While nothing is there yet. */
export function Waiting({ rows = 4 }: { readonly rows?: number }) {
  return (
    <Stack gap="sm" p="md" aria-busy="true" role="status" aria-label="Loading">
      {Array.from({ length: rows }, (_, at) => (
        <Skeleton key={at} height={18} width={`${90 - at * 12}%`} />
      ))}
    </Stack>
  )
}

/** Where something could not be fetched. */
export function Failed({ text, onRetry }: { readonly text: string; readonly onRetry: () => void }) {
  return (
    <Alert color="beet" role="alert" m="md" title="This did not load">
      <Group justify="space-between">
        <Text size="sm">{text}</Text>
        <Button size="compact-sm" variant="default" onClick={onRetry}>
          Try again
        </Button>
      </Group>
    </Alert>
  )
}

interface ListedProps<R> {
  readonly state: ListState<R>
  /** What is said where there is nothing. */
  readonly empty: ReactNode
  /** Those of the records that are shown; left out, all. */
  readonly shown?: readonly R[]
  readonly children: (records: readonly R[]) => ReactNode
}

/** A list in each state it can be in. */
export function Listed<R>({ state, empty, shown = state.records, children }: ListedProps<R>) {
  if (state.error) return <Failed text={state.error.message} onRetry={state.retry} />
  if (state.isLoading) return <Waiting />
  if (shown.length === 0) {
    return (
      <Text c="dimmed" p="md">
        {empty}
      </Text>
    )
  }
  return (
    <>
      {children(shown)}
      {state.more && (
        <Text c="dimmed" size="sm" p="md">
          There are more; these are the first {state.records.length}.
        </Text>
      )}
    </>
  )
}
