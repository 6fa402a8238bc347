import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { DeliveryInfo, DeliveryState, MailSettings, NewNotice, NoticeInfo, NoticeMade } from "../api/types";

export const useNotices = () =>
  useQuery({
    queryKey: ["notices"],
    queryFn: async () => (await ask(api.GET("/api/v1/notices"))).items as NoticeInfo[],
    refetchInterval: 15_000,
  });

export const useDeliveries = (notice: string | undefined, state: DeliveryState | undefined) =>
  useQuery({
    queryKey: ["notices", "deliveries", notice, state],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/deliveries", { params: { query: { notice, state, limit: 100 } } })))
        .items as DeliveryInfo[],
    refetchInterval: 15_000,
    placeholderData: (before: DeliveryInfo[] | undefined) => before,
  });

/** What it said: only for whoever may change its notice. */
export const useDelivery = (id: string | undefined) =>
  useQuery({
    queryKey: ["notices", "delivery", id],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/deliveries/{id}", { params: { path: { id: id ?? "" } } }))) as DeliveryInfo,
    enabled: id !== undefined,
  });

function useChange<T, R>(change: (wish: T) => Promise<R>, onDone?: (result: R) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    ...(onDone && { onSuccess: onDone }),
    onSettled: () => queries.invalidateQueries({ queryKey: ["notices"] }),
  });
}

export const useKeepNotice = (before: NoticeInfo | undefined, onDone: (made: NoticeMade) => void) =>
  useChange(
    async (wish: NewNotice): Promise<NoticeMade> =>
      before
        ? {
            notice: (await ask(
              api.PUT("/api/v1/notices/{id}", {
                params: { path: { id: before.id } },
                headers: { "If-Match": `"${before.version}"` },
                body: wish,
              }),
            )) as NoticeInfo,
          }
        : ((await ask(api.POST("/api/v1/notices", { body: wish }))) as NoticeMade),
    onDone,
  );

export const useTryNotice = () =>
  useChange(
    async (id: string) =>
      (await ask(api.POST("/api/v1/notices/{id}/try", { params: { path: { id } } }))) as DeliveryInfo,
  );

export const useRenewSecret = (onDone: (made: NoticeMade) => void) =>
  useChange(
    async (id: string) =>
      (await ask(api.POST("/api/v1/notices/{id}/secret", { params: { path: { id } } }))) as NoticeMade,
    onDone,
  );

export const useRemoveNotice = (onDone: () => void) =>
  useChange((id: string) => ask(api.DELETE("/api/v1/notices/{id}", { params: { path: { id } } })), onDone);

export const useDeliveryAct = () =>
  useChange((wish: { act: "resend" | "drop"; ids?: string[]; noticeId?: string }) =>
    ask(
      api.POST("/api/v1/deliveries/act", {
        body: { act: wish.act, ids: wish.ids ?? null, noticeId: wish.noticeId ?? null },
      }),
    ),
  );

export const useMailSettings = (enabled: boolean) =>
  useQuery({
    queryKey: ["notices", "mail"],
    queryFn: async () => (await ask(api.GET("/api/v1/settings/mail"))) as MailSettings,
    enabled,
  });

export interface MailWish {
  server: string;
  port: number;
  security: MailSettings["security"];
  user: string;
  /** Null leaves the one that is kept. */
  password: string | null;
  from: string;
  console: string;
}

export const useKeepMail = (version: number, onDone: () => void) =>
  useChange(
    (wish: MailWish) =>
      ask(
        api.PUT("/api/v1/settings/mail", {
          headers: { "If-Match": `"${version}"` },
          body: {
            ...wish,
            server: wish.server || null,
            user: wish.user || null,
            from: wish.from || null,
            console: wish.console || null,
          },
        }),
      ),
    onDone,
  );
