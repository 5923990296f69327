import { Button } from '@mantine/core'
import type { TableName } from 'pachter/model'
import type { model } from '../../model.js'
import { Act } from '../records.js'

/** A button for an action, as Korenveld's buttons look: where it would be refused, it says why. */
export function Do<T extends TableName<typeof model>>(props: Parameters<typeof Act<T>>[0]) {
  const color = props.action === 'delete' ? { color: 'beet' } : {}
  return <Act<T> as={Button} size="compact-sm" variant="default" {...color} {...props} />
}
