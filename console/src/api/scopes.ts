import { useQuery } from '@tanstack/react-query'
import { items, type Scope } from './client'

/** The most scopes that are read at once: a plan that is larger is searched. */
export const scopesMost = 10000

/** The scopes of the plan, by name; with a search, those that fit. */
export const useScopes = (search = '', enabled = true) =>
  useQuery({
    queryKey: ['scopes', search],
    queryFn: () => items<Scope>('/scopes', { search, limit: scopesMost }),
    placeholderData: (old) => old,
    enabled,
  })
