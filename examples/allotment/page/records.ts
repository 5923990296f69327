import { createClient } from 'pachter/client'
import { forReact } from 'pachter/react'
import { guardRoutes } from 'pachter/react/router'
import { model } from '../model.js'
import { rules } from '../rules.js'
import { lookingAs } from './looking.js'

/** Korenveld's records, as the server lets whoever looks have them. */
export const client = createClient({ model, rules })

export const { useSession, useConnected, useList, useRecord, useChanges, useMay, useForm, Act } = forReact(client, {
  standstill: () =>
    lookingAs() === undefined ? undefined : 'You are looking as somebody else, and can change nothing.',
})

export const guard = guardRoutes(client)
