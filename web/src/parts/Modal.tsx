/** A dialog in the middle of the page; Escape closes it. */
import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from '@headlessui/react'
import type { ReactNode } from 'react'

export function Modal({
  title,
  onClose,
  children,
}: {
  title: string
  onClose: () => void
  children: ReactNode
}) {
  return (
    <Dialog open onClose={onClose} className="relative z-30">
      <DialogBackdrop className="fixed inset-0 bg-black/30" />
      <div className="fixed inset-0 flex items-start justify-center pt-[14vh]">
        <DialogPanel className="w-[460px] rounded border border-line2 bg-surface p-5 shadow-lg">
          <DialogTitle className="strong mb-3 text-base">{title}</DialogTitle>
          {children}
        </DialogPanel>
      </div>
    </Dialog>
  )
}
