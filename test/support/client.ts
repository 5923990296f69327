/**
 * What an application does with a client that was generated from the description. Its text is type-checked against that client,
 * and it is run.
 */
// eslint-disable-next-line @typescript-eslint/no-explicit-any -- its types come with the generated client
export async function useClient(client: any) {
  const list = await client.GET('/api/entries', {
    params: { query: { $filter: "audience eq 'public'", $top: 1, access: true } },
  })
  const titles = list.data?.records.map((record: { title?: string }) => record.title)
  const made = await client.POST('/api/entries', {
    body: { plotId: 1, audience: 'private', title: 'Beans', body: 'Up.' },
  })
  const key = String(made.data?.id)
  const changed = await client.PATCH('/api/entries/{key}', {
    params: { path: { key } },
    body: { title: 'Broad beans' },
    bodySerializer: JSON.stringify,
    headers: { 'content-type': 'application/merge-patch+json' },
  })
  const wrong = await client.PATCH('/api/entries/{key}', {
    params: { path: { key } },
    body: { title: '' },
    headers: { 'content-type': 'application/merge-patch+json' },
  })
  const removed = await client.DELETE('/api/entries/{key}', { params: { path: { key } } })
  const gone = await client.GET('/api/entries/{key}', { params: { path: { key } } })
  return {
    titles,
    made: made.data?.title,
    changed: changed.data?.title,
    refused: gone.error?.detail,
    problems: wrong.error?.errors?.map((problem: { pointer: string }) => problem.pointer),
    removed: removed.response.status,
  }
}
